"""Reading the tables of a needs file: what several kinds of needs are written with."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Annotated, Final, TypeVar

import msgspec

from fundamentum import entries
from fundamentum.catalog.quantity import quantity
from fundamentum.errors import InputError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.constraints import version_range
from fundamentum.model.needs import LEVELS
from fundamentum.model.needs_value import Level, NotUnderstood, Text
from fundamentum.model.versions import VersionRange

MAX_ERRORS: Final = 100
"""Mistakes of one file that are told."""
COMMAND: Final = lazy_regex(r"[A-Za-z0-9_][A-Za-z0-9_.+-]{0,63}")
PATH: Final = lazy_regex(r"/?[A-Za-z0-9_.@+-]+(?:/[A-Za-z0-9_.@+-]+)*")
_SIZE: Final = lazy_regex(r"\d+\s*[kKmMgG]?")
_TIME: Final = lazy_regex(r"(\d+)\s*([smhd]?)")
_SECONDS: Final = {"": 1, "s": 1, "m": 60, "h": 3600, "d": 86400}
_NAMED: Final = lazy_regex(r"([A-Za-z0-9_.+-]+)\s*((?:>=|<=|!=|>|<|=).*)?")
Alternatives = tuple[tuple[str, VersionRange], ...]
"""Names of which any one will do, each with the versions that will."""
_Need = TypeVar("_Need")


class Table(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    """Base of all tables: a key that is not known is an error."""


LevelName = Annotated[Level, msgspec.Meta(description="How strongly it is needed.")]


class Listing(Table):
    """A list for each level."""

    required: Annotated[list[Text], msgspec.Meta(description="Without these the application does not run.")] = []
    recommended: Annotated[list[Text], msgspec.Meta(description="Without these it runs, but lacks something.")] = []


class Named(Table):
    """What is needed, by name, for each level."""

    required: Annotated[dict[str, Text], msgspec.Meta(description="Name to what it must be.")] = {}
    recommended: Annotated[dict[str, Text], msgspec.Meta(description="Name to what it must be.")] = {}


class NamesTable(Listing):
    """Names by level.  In one entry, | separates alternatives of which any one is enough."""


class Reader:
    """Reads tables; every error names the line, and all of them are told together.

    ``error`` makes the error for one place of the file, from its path, what is wrong, and the value if it is one of a
    list.
    """

    def __init__(self, error: Callable[[Sequence[str], str, str | None], InputError]) -> None:
        self._error = error
        self.errors: list[InputError] = []
        """What is wrong, in the order in which it was found."""

    def refuse(self, path: Sequence[str], what: object, value: str | None = None) -> None:
        """Note that one place of the file is wrong; what else stands in it is read all the same."""
        if not self.full():
            self.errors.append(self._error(path, str(what), value))

    def full(self) -> bool:
        """Whether so much is wrong that nothing more is told."""
        return len(self.errors) >= MAX_ERRORS

    def error(self, path: Sequence[str], what: str, value: str | None = None) -> InputError:
        """The error for one place of the file."""
        return self._error(path, what, value)

    def listed(self, name: str, table: Listing) -> Iterator[tuple[Level, str]]:
        """Each entry of the lists, with its level."""
        for level in LEVELS:
            for entry in getattr(table, level):
                yield level, entry

    def alternatives(
        self, name: str, table: Listing, known: Callable[[], Iterable[str]] = tuple
    ) -> Iterator[tuple[Level, Alternatives]]:
        """Entries of names with versions, ``git >= 2.30 | hg``; ``known`` tells which there are, if not any will do."""
        seen: set[tuple[str, ...]] = set()
        for level, entry in self.listed(name, table):
            try:
                read = versioned(entry, tuple(known()))
            except NotUnderstood as error:
                self.refuse([name, level], error, entry)
                continue
            names = tuple(named for named, _ in read)
            if names in seen:
                self.refuse([name, level], f"'{entry}' is listed twice", entry)
            seen.add(names)
            yield level, read

    def named(self, name: str, table: Named, made: Callable[[str, str, Level], _Need]) -> Iterator[_Need]:
        """What stands in a table by name, for each level."""
        seen: dict[str, Level] = {}
        for level in LEVELS:
            entries: Mapping[str, str] = getattr(table, level)
            for key, text in entries.items():
                place = [name, level, key]
                if key in seen:
                    self.refuse(place, f"'{key}' stands in [{name}.{seen[key]}] already")
                seen[key] = level
                try:
                    yield made(key, text, level)
                except NotUnderstood as error:
                    self.refuse(place, f"{key}: {error}" if key not in str(error) else error)

    def number(self, read: Callable[[str], int], place: list[str], text: str) -> int:
        """A number in words; the error names its place."""
        try:
            value = read(text)
        except NotUnderstood as error:
            raise self.error(place, str(error)) from error
        if value <= 0:
            raise self.error(place, f"'{text}' is nothing to hold against a limit")
        return value


def versioned(text: str, known: tuple[str, ...] = ()) -> Alternatives:
    """``git >= 2.30 | hg`` as alternatives; ``known`` are the names that there are, if not any will do."""
    alternatives: list[tuple[str, VersionRange]] = []
    for part in text.split("|"):
        match = _NAMED.fullmatch(part.strip())
        if not match or not COMMAND.fullmatch(match[1]) or (known and match[1] not in known):
            name = re.match(r"[\w.-]*", part.strip())
            hint = did_you_mean(name[0] if name else "", known) if known else ""
            example = f"; known: {', '.join(known)}" if known else '; write for example "git >= 2.30"'
            raise NotUnderstood(f"'{part.strip()}' is not understood{hint or example}")
        versions = version_range(match[2]) if match[2] else VersionRange()
        if versions.contradictory():
            raise NotUnderstood(f"no version of {match[1]} can satisfy '{versions}'")
        if match[1] in (name for name, _ in alternatives):
            raise NotUnderstood(f"'{match[1]}' is listed twice")
        alternatives.append((match[1], versions))
    return tuple(alternatives)


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """``; did you mean 'mariadb'?``, or nothing."""
    suggestion: str = entries.entry("fundamentum.catalog", "near").did_you_mean(word, known)
    return suggestion


def as_text(alternatives: Alternatives) -> str:
    """Alternatives as they are written."""
    return " | ".join(f"{name} {versions}" if versions.alternatives else name for name, versions in alternatives)


def below(path: str) -> str:
    """A path below the application's directory, without slashes around it."""
    if path.startswith("/") or not PATH.fullmatch(path.rstrip("/") or ".") or ".." in path.split("/"):
        raise NotUnderstood(f"'{path}' is no path below the application's directory; write for example \"public\"")
    return "" if path.rstrip("/") == "." else path.rstrip("/")


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
