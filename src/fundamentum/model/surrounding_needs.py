"""What an application requires beside PHP's own extensions and settings: limits as a whole, databases, commands,
directories, the machine, and tasks that are run at set times."""

import re
from typing import Final, Literal

from fundamentum.catalog.quantity import quantity
from fundamentum.model.need_id import NeedId
from fundamentum.model.value import Level, NotUnderstood, Value
from fundamentum.model.versions import VersionRange, version_range

Product = Literal["mariadb", "mysql", "postgresql", "sqlite"]
PRODUCTS: Final[tuple[Product, ...]] = ("mariadb", "mysql", "postgresql", "sqlite")
Limit = Literal["uploads:largest", "uploads:files", "requests:longest", "forms:fields"]
Fact = Literal["memory", "disk", "processors", "architecture", "time_zone", "https"]
FACTS: Final[tuple[Fact, ...]] = ("memory", "disk", "processors", "architecture", "time_zone", "https")
ARCHITECTURES: Final = {"x86_64": "amd64", "aarch64": "arm64", "i686": "i386", "i586": "i386", "armv7l": "armhf"}
"""The RHEL family's names for what the Debian family calls otherwise."""

COMMAND: Final = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.+-]{0,63}")
PATH: Final = re.compile(r"/?[A-Za-z0-9_.@+-]+(?:/[A-Za-z0-9_.@+-]+)*")
_NAMED: Final = re.compile(r"([A-Za-z0-9_.+-]+)\s*((?:>=|<=|!=|>|<|=).*)?")
_SIZE: Final = re.compile(r"\d+\s*[kKmMgG]?")
_TIME: Final = re.compile(r"(\d+)\s*([smhd]?)")
_SECONDS: Final = {"": 1, "s": 1, "m": 60, "h": 3600, "d": 86400}


class LimitNeed(Value, frozen=True):
    """How much has to get through everything that stands between a visitor and the application."""

    limit: Limit
    amount: int
    """Bytes, seconds or a count."""
    text: str
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId(self.limit)


class DatabaseNeed(Value, frozen=True):
    """One database server, or any one of several, each with the versions that will do."""

    alternatives: tuple[tuple[Product, VersionRange], ...]
    level: Level

    @property
    def key(self) -> NeedId:
        """``database:mariadb|postgresql``, as findings name it."""
        return NeedId("database:" + "|".join(product for product, _ in self.alternatives))

    @property
    def text(self) -> str:
        return _alternatives(self.alternatives)


class CommandNeed(Value, frozen=True):
    """One program that the application runs, or any one of several."""

    alternatives: tuple[tuple[str, VersionRange], ...]
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId("command:" + "|".join(name for name, _ in self.alternatives))

    @property
    def text(self) -> str:
        return _alternatives(self.alternatives)


def _alternatives(found: tuple[tuple[str, VersionRange], ...]) -> str:
    return " | ".join(f"{name} {versions}" if versions.alternatives else name for name, versions in found)


class DirectoryNeed(Value, frozen=True):
    """One directory: absolute, or below the one in which the application stands."""

    path: str
    level: Level
    access: Literal["there", "writable", "read-only"] = "there"
    outside: bool = False
    """Whether no web server may hand out what is in it."""

    @property
    def key(self) -> NeedId:
        return NeedId(f"directory:{self.path}")

    @property
    def text(self) -> str:
        return ", ".join([self.access, *(["outside"] if self.outside else [])])


class HostNeed(Value, frozen=True):
    """One thing about the machine."""

    fact: Fact
    level: Level
    text: str
    amount: int = 0
    """The least number: bytes, or processors."""
    names: tuple[str, ...] = ()
    """The architectures that will do."""

    @property
    def key(self) -> NeedId:
        return NeedId(f"host:{self.fact}")


class TaskNeed(Value, frozen=True):
    """One program that has to be run at set times."""

    command: str
    """The part of its command line by which it is known: a path below the application's directory, say."""
    every: int
    """Seconds between two runs, at most."""
    text: str
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId(f"task:{self.command}")


AroundNeed = LimitNeed | DatabaseNeed | CommandNeed | DirectoryNeed | HostNeed | TaskNeed


def size(text: str) -> int:
    """``200M`` in bytes, units as PHP has them."""
    if not _SIZE.fullmatch(text.strip()):
        raise NotUnderstood(f"'{text}' is no size; write digits and at most one of K, M, G")
    return quantity(text).number


def seconds(text: str) -> int:
    """``5m`` in seconds."""
    match = _TIME.fullmatch(text.strip())
    if not match or not int(match[1]):
        raise NotUnderstood(f'\'{text}\' is no length of time; write for example "90s", "5m", "1h" or "1d"')
    return int(match[1]) * _SECONDS[match[2]]


def versioned(text: str, names: tuple[str, ...] = ()) -> tuple[tuple[str, VersionRange], ...]:
    """``git >= 2.30 | hg`` as alternatives; ``names`` are those that there are, if not any will do."""
    found: list[tuple[str, VersionRange]] = []
    for part in text.split("|"):
        match = _NAMED.fullmatch(part.strip())
        if not match or not COMMAND.fullmatch(match[1]) or (names and match[1] not in names):
            example = f"; known: {', '.join(names)}" if names else '; write for example "git >= 2.30"'
            raise NotUnderstood(f"'{part.strip()}' is not understood{example}")
        versions = version_range(match[2]) if match[2] else VersionRange()
        if versions.contradictory():
            raise NotUnderstood(f"no version of {match[1]} can satisfy '{versions}'")
        if match[1] in (name for name, _ in found):
            raise NotUnderstood(f"'{match[1]}' is listed twice")
        found.append((match[1], versions))
    return tuple(found)


def directory(path: str, text: str, level: Level) -> DirectoryNeed:
    """One entry of a table of directories: ``writable``, ``read-only``, ``there``, each with or without ``outside``."""
    if not PATH.fullmatch(path) or ".." in path.split("/"):
        raise NotUnderstood(f"'{path}' is no path of a directory; letters, digits and . _ @ + - / are possible")
    words = [word.strip() for word in text.split(",")]
    access = [word for word in words if word in ("there", "writable", "read-only")]
    if len(access) > 1 or any(word not in (*access, "outside") for word in words) or len(set(words)) < len(words):
        raise NotUnderstood(
            f'\'{text}\' is not understood; write "writable", "read-only", "outside" or "writable, outside"'
        )
    kind: Literal["there", "writable", "read-only"] = access[0] if access else "there"  # type: ignore[assignment]
    return DirectoryNeed(path.rstrip("/"), level, kind, "outside" in words)


def host(name: str, text: str, level: Level) -> HostNeed:
    """One entry of a table about the machine."""
    body = text.strip()
    if name in ("memory", "disk", "processors"):
        match = re.fullmatch(r">=\s*(.+)", body)
        if not match or (name == "processors" and not match[1].isdigit()):
            example = "2" if name == "processors" else "2G"
            raise NotUnderstood(f"'{body}' is not understood; write for example \">= {example}\"")
        return HostNeed(name, level, body, size(match[1]))  # type: ignore[arg-type]
    if name == "architecture":
        names = tuple(ARCHITECTURES.get(part.strip(), part.strip()) for part in body.split("|"))
        if not all(COMMAND.fullmatch(one) for one in names):
            raise NotUnderstood(f"'{body}' is no architecture; write for example \"amd64 | arm64\"")
        return HostNeed("architecture", level, " | ".join(names), names=names)
    if name in ("time_zone", "https"):
        if body != "set" and not (name == "https" and body == "on"):
            raise NotUnderstood(f"'{body}' is not understood; write \"{'on' if name == 'https' else 'set'}\"")
        return HostNeed(name, level, body)  # type: ignore[arg-type]
    raise NotUnderstood(f"nothing is known of '{name}'; known: {', '.join(FACTS)}")


def task(command: str, text: str, level: Level) -> TaskNeed:
    """One entry of a table of tasks: the program, and how often it has to run."""
    if not PATH.fullmatch(command) or ".." in command.split("/"):
        raise NotUnderstood(f"'{command}' is no path of a program; letters, digits and . _ @ + - / are possible")
    match = re.fullmatch(r"every\s+(.+)", text.strip())
    if not match:
        raise NotUnderstood(f"'{text}' is not understood; write for example \"every 15m\"")
    every = seconds(match[1])
    if every < 60:
        raise NotUnderstood("no scheduler here runs anything more often than every minute")
    return TaskNeed(command, every, text.strip(), level)
