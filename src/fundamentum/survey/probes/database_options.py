"""What the option files of database servers say, in the order in which each server reads them.

Sources: MariaDB's and MySQL's documentation of option files, and of option prefixes; PostgreSQL's of the configuration
file.  Asked of real servers by tests/real/test_database_settings.py.
"""

import posixpath
import re
from collections.abc import Callable, Iterator, Sequence
from typing import Final, Literal

import msgspec

from fundamentum.catalog.databases import names_of
from fundamentum.catalog.suppliers import suppliers
from fundamentum.hosts.base import Host, HostError, listed, text_of
from fundamentum.hosts.processes import Process
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import Origin
from fundamentum.model.packages import Installed
from fundamentum.model.safe_text import is_path
from fundamentum.model.surrounding_facts import DatabaseOptions, OptionValue
from fundamentum.platforms.offers import upstream
from fundamentum.survey.running_services import changed_since
from fundamentum.untrusted.secrets import names_a_secret

MAX_FILES: Final = 200
MAX_DEPTH: Final = 10
PROCESSES: Final = {
    "mariadb": r"\S*/(?:mariadbd|mysqld)",
    "mysql": r"\S*/mysqld",
    "postgresql": r"\S*/postgres",
}
"""How the command lines of the servers begin."""
MAIN: Final = ("/etc/my.cnf", "/etc/mysql/my.cnf")
_GROUP: Final = lazy_regex(r"\[([^\]]++)\]")
_INCLUDE: Final = lazy_regex(r"!include(dir)?\s++(.+)")
_OPTION: Final = lazy_regex(r"([A-Za-z0-9_.-]++)\s*+(?:=\s*+(.*))?")
_SETTING: Final = lazy_regex(r"([A-Za-z_][A-Za-z0-9_.]*+)(?:\s*+=\s*+|\s++)(.*)")
Product = Literal["mariadb", "mysql", "postgresql"]


class _Reading(msgspec.Struct):
    """What was read so far."""

    values: dict[str, OptionValue] = msgspec.field(default_factory=dict)
    files: list[str] = msgspec.field(default_factory=list)
    unread: list[str] = msgspec.field(default_factory=list)
    folder: str | None = None
    late: set[str] = msgspec.field(default_factory=set)

    def take(self, name: str, value: str, path: str, line: int) -> None:
        """Note a value; a later one wins."""
        if not names_a_secret(name):
            self.values[name] = OptionValue(value[:1000], Origin(path, line))
        self.late.add(name)

    def text(self, host: Host, path: str) -> str:
        """A file, noted as read; nothing where there is none."""
        if len(self.files) >= MAX_FILES:
            return ""
        try:
            text = text_of(host, path)
        except HostError:
            self.unread.append(path)
            return ""
        if text is not None:
            self.files.append(path)
        return text or ""

    def directory(self, host: Host, path: str, read: Callable[[str], None], ending: str) -> None:
        """The files of a directory in the order of their names; it is the last one for now."""
        if not listed(host, path) and host.stat(path) is None:
            return
        self.files.append(path)
        for name in listed(host, path):
            if name.endswith(ending) and not name.startswith("."):
                read(posixpath.join(path, name))
        self.folder, self.late = path if is_path(path) else None, set()


def probe(
    host: Host, products: Sequence[str], installed: Sequence[Installed] | None, running: Sequence[Process]
) -> tuple[DatabaseOptions, ...]:
    """What is set for each of these products that is installed."""
    collected: list[DatabaseOptions] = []
    for product in products if not host.windows else ():
        version = _version(product, installed or ())
        if version is None:
            continue
        if product == "postgresql":
            collected += _clusters(host, version, running)
        elif product in ("mariadb", "mysql"):
            collected.append(_server(host, product, version, running))  # type: ignore[arg-type]
    return tuple(collected)


def _version(product: str, installed: Sequence[Installed]) -> str | None:
    pattern = suppliers().installed.get(product, "")
    versions = (upstream(package.version) for package in installed if re.fullmatch(pattern, package.name))
    version = next((version for version in versions if version), None)
    return ".".join(version.split(".")[: 1 if product == "postgresql" else 2]) if version else None


def _facts(
    host: Host, product: Product, version: str, reading: _Reading, running: Sequence[Process]
) -> DatabaseOptions:
    started = min(
        (process.started for process in running if re.fullmatch(PROCESSES[product], process.title)), default=None
    )
    files = tuple(dict.fromkeys(reading.files))
    stale = changed_since(host, started, files)
    late = tuple(sorted(reading.late)) if reading.folder else ()
    return DatabaseOptions(product, version, reading.values, reading.folder, late, files, tuple(reading.unread), stale)


def _server(host: Host, product: Product, version: str, running: Sequence[Process]) -> DatabaseOptions:
    """MariaDB and MySQL: groups of options, of which several count; the last line wins, in whichever group it is."""
    names = ["mysqld", "server", *(["mariadb", "mariadbd", "client-server", "galera"] if product == "mariadb" else [])]
    groups = {*names, *(f"{name}-{version}" for name in ("mysqld", "mariadb", "mariadbd"))}
    reading = _Reading()

    def read(path: str, depth: int = 0) -> None:
        group = ""
        for number, raw in enumerate(reading.text(host, path).splitlines(), 1):
            line = raw.strip()
            if line[:1] in ("#", ";", ""):
                continue
            if match := _INCLUDE.fullmatch(line):
                if depth < MAX_DEPTH and match[1]:
                    reading.directory(
                        host, match[2].rstrip("/"), lambda path_included: read(path_included, depth + 1), ".cnf"
                    )
                elif depth < MAX_DEPTH:
                    read(match[2], depth + 1)
            elif match := _GROUP.match(line):
                group = match[1].strip()
            elif group in groups and (match := _OPTION.fullmatch(_without_comment(line).rstrip())):
                name, value = option(match[1], match[2], product)
                reading.take(name, value, path, number)

    for path in MAIN:
        read(path)
    return _facts(host, product, version, reading, running)


def _without_comment(line: str) -> str:
    """A line without what follows a ``#`` that stands outside of quotes.  Source: ``search_default_file_with_ext``."""
    quote = ""
    for at, letter in enumerate(line):
        if letter in "'\"" and (not quote or quote == letter):
            quote = "" if quote else letter
        elif letter == "#" and not quote:
            return line[:at]
    return line


def option(text: str, value: str | None, product: str) -> tuple[str, str]:
    """The variable that an option is about, and its value: with dashes, a prefix such as ``skip-``, or cut short."""
    name = text.replace("-", "_").lower().removeprefix("loose_")
    known = names_of(product if product == "postgresql" else "mariadb")
    for prefix, switched in (("skip_", "OFF"), ("disable_", "OFF"), ("enable_", "ON")):
        if name not in known and name.startswith(prefix) and name.removeprefix(prefix) in known:
            return name.removeprefix(prefix), "OFF" if value in ("0", "OFF") and switched == "ON" else switched
    if name not in known:
        longer = [name_known for name_known in known if name_known.startswith(name)]
        name = longer[0] if len(longer) == 1 and len(name) > 3 else name
    if value is None:
        return name, "ON"
    body = value.strip()
    return name, body[1:-1] if len(body) > 1 and body[0] == body[-1] and body[0] in "'\"" else body


def _clusters(host: Host, version: str, running: Sequence[Process]) -> Iterator[DatabaseOptions]:
    """PostgreSQL: every cluster of the installed version.  The last line wins; what the server keeps, over all."""
    folders = [f"/etc/postgresql/{version}/{name}" for name in listed(host, f"/etc/postgresql/{version}")]
    for folder in [*folders, "/var/lib/pgsql/data"]:
        if host.stat(f"{folder}/postgresql.conf") is None:
            continue
        reading = _Reading()
        _postgresql(host, f"{folder}/postgresql.conf", reading, 0)
        data = reading.values.get("data_directory")
        place = data.value if data else folder
        before = set(reading.values.items())
        _postgresql(host, f"{place}/postgresql.auto.conf", reading, MAX_DEPTH)
        reading.late |= {name for name, value in reading.values.items() if (name, value) not in before}
        yield _facts(host, "postgresql", version, reading, running)


def _postgresql(host: Host, path: str, reading: _Reading, depth: int) -> None:
    for number, line in enumerate(reading.text(host, path).splitlines(), 1):
        match = _SETTING.fullmatch(_without_comment(line).strip())
        if not match:
            continue
        name, value = match[1].lower(), match[2]
        if len(value) > 1 and value[0] == value[-1] == "'":
            value = value[1:-1].replace("''", "'")
        if not name.startswith("include"):
            reading.take(name, value, path, number)
            continue
        target = posixpath.normpath(posixpath.join(posixpath.dirname(path), value))
        if depth >= MAX_DEPTH:
            continue
        if name == "include_dir":
            reading.directory(
                host, target, lambda path_included: _postgresql(host, path_included, reading, depth + 1), ".conf"
            )
        else:
            _postgresql(host, target, reading, depth + 1)
