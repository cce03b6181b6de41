"""Needs files: ``*.needs.toml``, read strictly.  Every error names the file and the line."""

import re
import tomllib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Final

import msgspec

from fundamentum.errors import InputError
from fundamentum.kinds import kinds
from fundamentum.kinds.table_reader import Reader
from fundamentum.model.needs import Needs
from fundamentum.needs.tables import known_keys, needs_file
from fundamentum.needs.toml_lines import line_of
from fundamentum.untrusted.files import read_named

FORMAT: Final = 1
SUFFIX: Final = ".needs.toml"
MAX_SIZE: Final = 1024 * 1024
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

    def error(self, path: Sequence[str], what: str, value: str | None = None) -> InputError:
        return InputError(self.where, what, line_of(self.text, path, value) or 1)

    def needs(self, document: Mapping[str, Any]) -> Needs:
        try:
            file = msgspec.convert(_on_one_line(document), needs_file())
        except msgspec.ValidationError as error:
            raise self.translated(str(error), document) from error
        if file.format != FORMAT:
            raise self.error(["format"], f"format {file.format}; this program reads format {FORMAT}")
        reader = Reader(self.error)
        tables = {name: getattr(file, name) for kind in kinds() for name in kind.tables}
        read = tuple(need for kind in kinds() for need in kind.read(tables, reader))
        found = Needs(file.application.name, file.application.version, read)
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
        keys = known_keys(tuple(path))
        return f"; known: {', '.join(keys)}" if keys else ""

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
