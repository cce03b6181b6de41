"""Needs files: ``*.needs.toml``, read strictly.  Every error names the file and the line."""

import re
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, Final

import msgspec

from fundamentum.catalog import canonical
from fundamentum.errors import InputError
from fundamentum.model.conditions import condition, contradict
from fundamentum.model.needs import LEVELS, ExtensionNeed, LoaderNeed, Needs, SettingNeed
from fundamentum.model.surrounding_needs import directory, host, task
from fundamentum.model.value import Level, NotUnderstood
from fundamentum.model.versions import VersionRange, version_range
from fundamentum.needs.around_tables import AroundReader
from fundamentum.needs.lines import line_of
from fundamentum.needs.tables import TABLES, NamesTable, NeedsFile, PhpTable, SettingsTable
from fundamentum.untrusted.files import read_named

FORMAT: Final = 1
SUFFIX: Final = ".needs.toml"
MAX_SIZE: Final = 1024 * 1024
_EXTENSION: Final = re.compile(r"[A-Za-z][A-Za-z0-9_ -]{0,63}")
_DIRECTIVE: Final = re.compile(r"[A-Za-z_][A-Za-z0-9_.-]{0,99}")
_BRANCH: Final = re.compile(r"\d+\.\d+")
_WHERE: Final = re.compile(r"(?P<what>.*?)(?: - at `(?:key in )?\$(?P<path>.*)`)?", re.S)


def load(path: Path) -> Needs:
    """Read a needs file."""
    data = read_named(path, MAX_SIZE, "a needs file")
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise InputError(str(path), "not UTF-8", data.count(b"\n", 0, error.start) + 1) from error
    return parse(text, str(path))


def parse(text: str, where: str) -> Needs:
    """The needs in the text of a file called ``where``."""
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        match = re.search(r" \(at line (\d+), column \d+\)", str(error))
        what = re.sub(r" \(at (?:line.*|end of document)\)", "", str(error))
        raise InputError(where, f"not TOML: {what}", int(match[1]) if match else text.count("\n") + 1) from error
    except (RecursionError, ValueError) as error:  # a number of thousands of digits is the latter
        raise InputError(where, f"not TOML: {str(error)[:200] or 'nested too deeply'}") from error
    try:
        return _Reader(text, where).needs(document)
    except RecursionError as error:
        raise InputError(where, "nested too deeply") from error


class _Reader:
    def __init__(self, text: str, where: str) -> None:
        self.text, self.where = text, where
        self.around = AroundReader(self.error)

    def error(self, path: Sequence[str], what: str, value: str | None = None) -> InputError:
        return InputError(self.where, what, line_of(self.text, path, value) or 1)

    def needs(self, document: Mapping[str, Any]) -> Needs:
        try:
            file = msgspec.convert(_on_one_line(document), NeedsFile)
        except msgspec.ValidationError as error:
            raise self.translated(str(error), document) from error
        if file.format != FORMAT:
            raise self.error(["format"], f"format {file.format}; this program reads format {FORMAT}")
        found = Needs(
            name=file.application.name,
            version=file.application.version,
            php=self.php(file.php),
            preferred=file.php.preferred,
            extensions=tuple(self.extensions(file.extensions)),
            settings=tuple(self.settings(file.settings)),
            loaders=tuple(self.loaders(file.loaders)),
            limits=tuple(self.around.limits(file)),
            databases=tuple(self.around.databases(file.database)),
            commands=tuple(self.around.commands(file.commands)),
            directories=tuple(self.around.entries("directories", file.directories, directory)),
            host=tuple(self.around.entries("host", file.host, host)),
            tasks=tuple(self.around.entries("tasks", file.tasks, task)),
        )
        # A person who takes a derived need out may leave its note behind.
        notes = {key: note for key, note in file.notes.items() if key not in file.derived or found.holds(key)}
        return msgspec.structs.replace(found, notes=self.notes(notes, found))

    def translated(self, message: str, document: Mapping[str, Any]) -> InputError:
        """The library's message as ours, with the line."""
        match = _WHERE.fullmatch(message)
        what, steps = (match["what"], match["path"] or "") if match else (message, "")
        path = re.findall(r"\.([A-Za-z_]+)|\[(?:\.\.\.|\d+)\]", steps)
        path = [step for step in path if step]
        if unknown := re.fullmatch(r"Object contains unknown field `(.*)`", what):
            return self.error([*path, unknown[1]], f"unknown key '{unknown[1]}'{self._in(path)}{self._allowed(path)}")
        if missing := re.fullmatch(r"Object missing required field `(.*)`", what):
            return self.error(path, f"'{missing[1]}' is missing{self._in(path)}")
        if kind := re.fullmatch(r"Expected `(.*)`, got `(.*)`", what):
            words = {
                "str": "text in quotes",
                "int": "a whole number",
                "array": "a list",
                "object": "a table",
                "str | null": "text in quotes",
                "int | null": "a whole number",
            }
            wanted = words.get(kind[1], kind[1])
            return self.error(
                path,
                f"'{'.'.join(path)}' must be {wanted}"
                if "[" not in steps
                else f"every entry of '{'.'.join(path)}' must be {wanted}",
            )
        if "matching regex" in what and path[-1:] == ["name"]:
            return self.error(path, f"'{'.'.join(path)}' may hold letters, digits, '.', '_' and '-' only")
        if "matching regex" in what:
            return self.error(path, f"'{'.'.join(path)}' has to stand on one line, without control characters")
        return self.error(path, f"'{'.'.join(path)}': {what}")

    def _in(self, path: Sequence[str]) -> str:
        return f" in [{'.'.join(path)}]" if path else ""

    def _allowed(self, path: Sequence[str]) -> str:
        table = TABLES.get(tuple(path))
        return f"; known: {', '.join(table.__struct_fields__)}" if table else ""

    def php(self, table: PhpTable) -> VersionRange:
        try:
            accepted = version_range(table.version) if table.version else VersionRange()
        except NotUnderstood as error:
            raise self.error(["php", "version"], str(error)) from error
        if accepted.contradictory():
            raise self.error(["php", "version"], f"no PHP version can satisfy '{accepted}'")
        if table.preferred is not None:
            if not _BRANCH.fullmatch(table.preferred):
                raise self.error(["php", "preferred"], f"'{table.preferred}' is no branch; write for example \"8.3\"")
            if not accepted.accepts_branch(table.preferred):
                raise self.error(["php", "preferred"], f"preferred {table.preferred} contradicts version '{accepted}'")
        return accepted

    def extensions(self, table: NamesTable) -> Iterable[ExtensionNeed]:
        seen: dict[tuple[str, ...], Level] = {}
        for level in LEVELS:
            for entry in getattr(table, level):
                names = tuple(canonical(name) for name in entry.split("|"))
                for raw in entry.split("|"):
                    if not _EXTENSION.fullmatch(raw.strip()):
                        raise self.error(["extensions", level], f"'{raw.strip()}' is no extension name", entry)
                if names in seen or len(set(names)) < len(names):
                    raise self.error(["extensions", level], f"'{entry}' is listed twice", entry)
                seen[names] = level
                yield ExtensionNeed(names, level)

    def settings(self, table: SettingsTable) -> Iterable[SettingNeed]:
        found: dict[str, SettingNeed] = {}
        for level in LEVELS:
            for path, value in _flattened(getattr(table, level), ()):
                name = ".".join(path)
                place = ["settings", level, *path]
                if not _DIRECTIVE.fullmatch(name):
                    raise self.error(place, f"'{name}' is no directive name")
                if not isinstance(value, str):
                    raise self.error(
                        place,
                        f'\'{name}\' must be text in quotes, such as ">= 256M", "on", "off", "unset" or "= VALUE"',
                    )
                try:
                    need = SettingNeed(name, condition(name, value), level)
                except NotUnderstood as error:
                    raise self.error(place, f"{name}: {error}") from error
                if name in found and contradict(name, found[name].condition, need.condition):
                    raise self.error(
                        place,
                        f"{name}: '{need.condition.text}' contradicts '{found[name].condition.text}' "
                        f"in [settings.{found[name].level}]",
                    )
                found.setdefault(name, need)
                yield need

    def loaders(self, table: NamesTable) -> Iterable[LoaderNeed]:
        for level in LEVELS:
            for name in getattr(table, level):
                yield LoaderNeed(name.strip(), level)

    def notes(self, notes: Mapping[str, str], found: Needs) -> dict[str, str]:
        for key in notes:
            if not found.holds(key):
                raise self.error(
                    ["notes", key],
                    f'the note \'{key}\' belongs to no need; name it like "extension:intl" or "setting:memory_limit"',
                )
        return dict(notes)


def _on_one_line(document: Mapping[str, Any]) -> Mapping[str, Any]:
    """The document with notes that were written on several lines brought onto one."""
    notes = document.get("notes")
    if not isinstance(notes, dict):
        return document
    joined = {
        key: re.sub(r"[ \t]*\r?\n[ \t]*", " ", note.strip()) if isinstance(note, str) else note
        for key, note in notes.items()
    }
    return {**document, "notes": joined}


def _flattened(table: Mapping[str, Any], before: tuple[str, ...]) -> Iterable[tuple[tuple[str, ...], Any]]:
    """``session.auto_start`` without quotes is a table inside a table; it means the same."""
    for name, value in table.items():
        if isinstance(value, dict):
            yield from _flattened(value, (*before, name))
        else:
            yield (*before, name), value
