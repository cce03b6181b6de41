"""What an application's own README and installation notes say under headings about requirements.

Source and manifest come first: a document adds what they do not speak of, as recommended, and contradictions are told.
"""

import re
from collections.abc import Collection, Iterable, Iterator, Mapping
from pathlib import Path
from typing import Final, Literal

import msgspec

from fundamentum.catalog import branch_key, extension_gone
from fundamentum.catalog.symbols import only_on_windows
from fundamentum.derive.application.document_names import DOCUMENT
from fundamentum.derive.beside.experimental import experimental_databases
from fundamentum.derive.beside.files_beside import files_in
from fundamentum.derive.beside.telling_sentences import tells
from fundamentum.derive.beside.timer_samples import timer_samples
from fundamentum.derive.families import SWITCHED_OFF
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.result import Entry, Place, advised_branch
from fundamentum.errors import InputError
from fundamentum.kinds.table_reader import PATH
from fundamentum.kinds.web.need import is_module
from fundamentum.prose.marked_up import OF_BADGE
from fundamentum.prose.requirements import requirements
from fundamentum.prose.statement import Statement
from fundamentum.untrusted.files import read_below

_FOLDERS: Final = (
    "", "docs", "doc", "documentation", "docs/admin", "docs/install", "docs/installation", "docs/setup", "docs/en",
    "doc/admin", "doc/en", "cron", "etc", "etc/cron.d", "contrib",
)  # fmt: skip
_ENDINGS: Final = frozenset(
    ("", *".md .markdown .rst .adoc .asciidoc .txt .html .htm .cron .sample .example .dist".split())
)
_CRON: Final = frozenset({".cron", ".crontab"})
_TESTED: Final = re.compile(r"\btested\b", re.I)
MAX_FILES: Final = 12
MAX_SIZE: Final = 256 * 1024
_Kind = Literal["setting", "database", "service", "host", "task", "command", "loader", "library", "function"]
_KINDS: Final[Mapping[tuple[str, ...], _Kind]] = {
    ("settings",): "setting",
    ("database",): "database",
    ("services",): "service",
    ("host",): "host",
    ("tasks",): "task",
    ("commands",): "command",
    ("loaders",): "loader",
    ("libraries",): "library",
    ("functions",): "function",
}
OLDEST: Final = "7.4"
"""The branch from which on an extension has to be there that a document asks for."""
_TO_GET_IT: Final = frozenset(
    "composer git npm yarn node make docker curl wget unzip tar gzip bzip2 sqlite3 psql".split()
)
"""Programs with which an application is fetched and built rather than run, and clients of databases."""
_NO_NEEDS: Final = frozenset(
    "disable_functions safe_mode register_globals magic_quotes_gpc magic_quotes_runtime".split()
)
"""Settings of which documents give advice on safety, or that no PHP has had for long."""
_LOWER: Final = re.compile(r">=\s*(\d{1,2}(?:\.\d{1,3}){0,2})")
_UPPER: Final = re.compile(r"<=?\s*(\d{1,2}(?:\.\d{1,3}){0,2})")


class Said(msgspec.Struct):
    """What documents say."""

    php: list[tuple[str, Place]] = msgspec.field(default_factory=list)
    """Version ranges, as needs files write them."""
    newer: list[tuple[str, Place]] = msgspec.field(default_factory=list)
    """``<8.4``, where a sentence speaks of a version that is too new, and of nothing else."""
    preferred: list[Entry] = msgspec.field(default_factory=list)
    """Branches of PHP that they advise."""
    extensions: list[tuple[tuple[str, ...], str, Place]] = msgspec.field(default_factory=list)
    """Names of which any one will do, the version range of a single one, and where."""
    experimental: set[str] = msgspec.field(default_factory=set)
    """Databases that they call experimental, or fit for trials alone."""
    others: list[Entry] = msgspec.field(default_factory=list)
    """Limits, databases, services, programs to be run at set times, modules of the web server, directories."""


def documents(root: str, base: str) -> Said:
    """What the documents at the top of an application say."""
    said = Said()
    for path in list(_files(root, base))[:MAX_FILES]:
        try:
            data = read_below(Path(root), path, MAX_SIZE)
            understood = requirements(data, path)
        except (OSError, InputError):
            continue
        lines = (*(line for line, _ in understood.sentences), *understood.rest)
        said.experimental.update(name for line in lines for name in experimental_databases(line.text))
        for line, statements in understood.sentences:
            for statement in statements:
                if tells(line, path, statement) and _can_be(statement):
                    _take(said, statement, Place(path, line.number, line.text[:80], "the document says it"))
    said.php.sort(key=lambda stated: OF_BADGE in stated[1].what)
    said.others = [*_one_database(said.others), *timer_samples(root, base)]
    return said


def _can_be(statement: Statement) -> bool:
    """Whether there is what a sentence was understood as: of extensions, in a PHP of today and on this system."""
    names = [re.split(r"[<>=]", name)[0].strip() for name in str(statement.value).split("|")]
    gone = (extension_gone(name, OLDEST) is not None or only_on_windows(name) for name in names)
    return statement.table[0] != "extensions" or not all(gone)


def _one_database(entries: list[Entry]) -> list[Entry]:
    """The entries, all that are databases as one: an application works with one of those that documents name."""
    databases = [entry for entry in entries if entry.kind == "database"]
    parts: dict[str, str] = {}
    for database in databases:
        for name, part in _alternatives(database):
            parts.setdefault(name, part.strip())  # what is recommended comes behind the least
    if len(databases) < 2:
        return entries
    value = " | ".join(parts.values())
    together = msgspec.structs.replace(
        databases[0], names=tuple(parts), value=value if value != " | ".join(parts) else "",
        rule=f"{databases[0].places[0].path} says", places=tuple(entry.places[0] for entry in databases),
    )  # fmt: skip
    return [
        together if entry is databases[0] else entry
        for entry in entries
        if entry is databases[0] or entry not in databases
    ]


def _alternatives(entry: Entry) -> list[tuple[str, str]]:
    return list(zip(entry.names, (entry.value or " | ".join(entry.names)).split("|"), strict=True))


def _files(root: str, base: str) -> Iterator[str]:
    for _, path in files_in(root, base, _FOLDERS):
        name = path.rpartition("/")[2]
        stem, dot, ending = name.rpartition(".")
        known = f"{dot}{ending}".lower() if stem else ""
        if known in _CRON or (known in _ENDINGS and DOCUMENT.fullmatch(stem or name)):
            yield path


def _take(said: Said, statement: Statement, place: Place) -> None:
    if statement.table == ("php",) and statement.key == "version" and (low := _LOWER.search(str(statement.value))):
        if (5, 2) <= _branch(low[1]) < (10, 0):
            # What it was tested with is no reason why a later one should not do.
            value = low[0] if _TESTED.search(place.what) else str(statement.value)
            said.php.append((value.replace(" ", "").replace(",", ", "), place))
    elif statement.table == ("php",) and statement.key == "version" and _UPPER.fullmatch(str(statement.value)):
        said.newer.append((str(statement.value), place))
    elif statement.table == ("php",) and statement.key == "preferred":
        said.preferred.append(advised_branch(str(statement.value), f"{place.path} advises it", place))
    elif statement.table[0] == "extensions" and statement.table[-1] != "absent":
        parts = [part.partition(">=") for part in str(statement.value).split("|")]
        names = tuple(name for part in parts if (name := extension_called(part[0].strip().encode())))
        version = "".join(parts[0][1:]).replace(" ", "") if len(parts) == 1 else ""
        if names:
            said.extensions.append((names, version, place))
    elif statement.table == ("web", "modules") and is_module(module := str(statement.value)):
        if module.startswith("php"):
            return  # one way of several to run PHP, which is judged by itself
        said.others.append(Entry("web_module", (module,), "recommended", "", f"{place.path} says", (place,)))
    elif statement.table[0] == "directories":
        path = statement.key
        if PATH.fullmatch(path) and not path.startswith("/") and not {".", ".."}.intersection(path.split("/")):
            said.others.append(Entry("directory", (path,), "recommended", "writable", f"{place.path} says", (place,)))
    elif (kind := _KINDS.get(statement.table[:-1])) and statement.key not in _NO_NEEDS:
        said.others += _other(kind, statement, place)


def _other(kind: _Kind, statement: Statement, place: Place) -> Iterator[Entry]:
    """What a document says of anything but PHP, its extensions and directories."""
    value = str(statement.value)
    keyed = kind in ("setting", "host", "task")
    names = (statement.key,) if keyed else tuple(re.split(r"[<>=]", part)[0].strip() for part in value.split("|"))
    if kind == "command" and not _TO_GET_IT.isdisjoint(names):
        return
    if kind == "function" and names[0] not in SWITCHED_OFF:
        return
    rule = f"{place.path} says{'' if keyed or value == ' | '.join(names) else f' {value}'}"
    if not keyed and (value == " | ".join(names) or kind != "database"):
        value = value.removeprefix(names[0]).replace(" ", "") if len(names) == 1 else ""
    yield Entry(kind, names, "recommended", value, rule, (place,))


def with_documents(
    php: Entry | None, entries: list[Entry], said: Said, everywhere: frozenset[str]
) -> tuple[Entry | None, list[Entry], list[str]]:
    """What was derived, with what documents add; and where they say otherwise, in words.

    ``everywhere``: extensions that are a part of every PHP, of which nothing has to be said.
    """
    remarks: list[str] = []
    if said.php:
        value, place = said.php[0]
        if php is None:
            php = Entry("php", (), "required", *_with_newer(value, place, said))
        elif (ours := _LOWER.search(php.value)) and (theirs := _LOWER.search(value)) and _differ(ours[1], theirs[1]):
            where = f"{php.places[0]}" if php.places else "its source"
            remarks.append(f"{place} says PHP {value}, {where} {php.value}: the latter counts")
    named = {name for entry in entries if entry.kind in ("extension", "absent") for name in entry.names}
    added: list[Entry] = []
    for names, version, place in said.extensions:
        if named.isdisjoint(names) and everywhere.isdisjoint(names):
            named.update(names)
            added.append(Entry("extension", names, "recommended", version, f"{place.path} says", (place,)))
    return php, [*entries, *added], remarks


def _with_newer(value: str, place: Place, said: Said) -> tuple[str, str, tuple[Place, ...]]:
    """What a document says of PHP, with what another sentence of it says of a version that is too new."""
    rule, low = f"{place.path} says", _LOWER.search(value)
    for newer, where in said.newer if low and "<" not in value else ():
        above = _UPPER.search(newer)
        if low and above and where.path == place.path and _branch(above[1]) > _branch(low[1]):
            return f"{value}, {newer}", rule, (place, where)
    return value, rule, (place,)


def beside_documents(entries: Iterable[Entry], said: Said, scripts: Collection[str]) -> Iterator[Entry]:
    """All needs, with those of other kinds that documents alone speak of.  ``scripts``: the application's files."""
    named: set[tuple[str, str]] = set()
    for entry in entries:
        named.update((entry.kind, name) for name in entry.names)
        if entry.kind == "uploads":
            named.update((("setting", "upload_max_filesize"), ("setting", "post_max_size")))
        yield entry
    for entry in said.others:
        if entry.kind == "task":
            script = _script(entry.names[0], scripts)
            entry = msgspec.structs.replace(entry, names=(script or entry.names[0],))
            if not script:
                continue  # an example, or another program's
        if named.isdisjoint((entry.kind, name) for name in entry.names):
            named.update((entry.kind, name) for name in entry.names)
            yield entry


def _differ(ours: str, theirs: str) -> bool:
    return _branch(ours) != _branch(theirs)


def _branch(version: str) -> tuple[int, ...]:
    return branch_key(".".join([*version.split("."), "0"][:2]))


def _script(written: str, scripts: Collection[str]) -> str:
    """The application's file that a document means: what stands before its own directory is a server's."""
    below = next((path for path in sorted(scripts, key=len) if f"/{path}".endswith(f"/{written}")), "")
    last = written.rpartition("/")[2]
    return below or (last if last in scripts else "")
