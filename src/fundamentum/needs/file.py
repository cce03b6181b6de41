"""Needs files: ``*.needs.toml``, read strictly.  Every error names file, line and column."""

import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Final

import msgspec

from fundamentum.entries import entry
from fundamentum.errors import InputError, InputErrors
from fundamentum.kinds import kinds
from fundamentum.kinds.table_reader import MAX_ERRORS, Reader, did_you_mean
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.needs import Need, Needs
from fundamentum.needs.tables import needs_file
from fundamentum.needs.toml_document import document
from fundamentum.needs.toml_lines import spot_of
from fundamentum.untrusted.files import read_named

FORMAT: Final = 1
SUFFIX: Final = ".needs.toml"
MAX_SIZE: Final = 1024 * 1024
_STAND_INS: Final[Mapping[str, Any]] = {"format": FORMAT, "application": {"name": "x"}, "name": "x"}
"""What is taken for something that is missing, to go on reading."""
_WORDS: Final = {
    "str": "text in quotes",
    "int": "a whole number",
    "array": "a list",
    "object": "a table",
    "str | null": "text in quotes",
    "int | null": "a whole number",
}
_LENGTH: Final = lazy_regex(r"of length <= (\d+)")
_STEP: Final = lazy_regex(r"\.([A-Za-z_]+)|\[(\d+|\.\.\.)\]")
_WHERE: Final = lazy_regex(r"(?P<what>.*?)(?: - at `(?:key in )?\$(?P<path>.*)`)?", re.S)


def load(path: Path) -> Needs:
    """Read a needs file."""
    return parse(decoded(read_named(path, MAX_SIZE, "a needs file"), path), str(path))


def decoded(data: bytes, path: Path) -> str:
    """The text of a file; an error that names the line where it is none."""
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise InputError(str(path), "not UTF-8", data.count(b"\n", 0, error.start) + 1) from error


def parse(text: str, where: str) -> Needs:
    """The needs in the text of a file called ``where``.  All that is wrong with it is told together."""
    try:
        return _Reader(text, where).needs(document(text, where))
    except RecursionError as error:
        raise InputError(where, "nested too deeply") from error


def _spelling() -> Any:
    """What may have been meant; loaded only where something is wrong."""
    return entry("fundamentum.needs", "spelling")


class _Reader:
    def __init__(self, text: str, where: str) -> None:
        self.text, self.where = text, where
        self.typed: dict[tuple[str, ...], str] = {}
        """What stands in the file for a key that was taken for another one."""

    def error(self, path: Sequence[str], what: str, value: str | None = None) -> InputError:
        path = [self.typed.get(tuple(path[: at + 1]), step) for at, step in enumerate(path)]
        line, column = spot_of(self.text, path, value) or (1, 1)
        return InputError(self.where, what, line, column)

    def needs(self, document: dict[str, Any]) -> Needs:
        reader = Reader(self.error)
        file = self.converted(_on_one_line(document), reader)
        if file.format != FORMAT:
            reader.refuse(["format"], f"format {file.format}; this program reads format {FORMAT}")
        tables = {name: getattr(file, name) for kind in kinds() for name in kind.tables}
        read: list[Need] = []
        for kind in kinds():
            try:
                read += kind.read(tables, reader)
            except InputError as error:
                reader.errors.append(error)
        application = Needs(file.application.name, file.application.version, tuple(read))
        # A person who takes a derived need out may leave its note behind.
        notes = {key: note for key, note in file.notes.items() if key not in file.derived or application.holds(key)}
        for key in notes if not reader.errors else ():  # the need of a note may be what was wrong
            if not application.holds(key) and not reader.full():
                hint = did_you_mean(key, (str(need.key) for need in application.all))
                example = hint or '; name it like "extension:intl" or "setting:memory_limit"'
                reader.refuse(["notes", key], f"the note '{key}' belongs to no need{example}")
        if reader.errors:
            errors = sorted(reader.errors, key=lambda error: (error.line or 0, error.column or 0))
            if reader.full():
                errors.append(InputError(self.where, "more than these is wrong; correct them first"))
            raise InputErrors(errors)
        return msgspec.structs.replace(application, notes=notes)

    def converted(self, document: dict[str, Any], reader: Reader) -> Any:
        """The document as its tables; what does not fit them is refused, and left out to find what else does not."""
        for _ in range(MAX_ERRORS):
            try:
                return msgspec.convert(document, needs_file())
            except msgspec.ValidationError as error:
                match = _WHERE.fullmatch(str(error))
                what, steps = (match["what"], match["path"] or "") if match else (str(error), "")
                if not self.left_out(document, what, steps, reader):
                    break
        raise InputErrors(reader.errors)

    def left_out(self, document: dict[str, Any], what: str, steps: str, reader: Reader) -> bool:
        """Refuse what the library objects to, and take it out of the document; False where that cannot be done."""
        path = [name or (int(number) if number.isdigit() else -1) for name, number in _STEP.findall(steps)]
        names = [step for step in path if isinstance(step, str)]
        if missing := re.fullmatch(r"Object missing required field `(.*)`", what):
            reader.refuse(names, f"'{missing[1]}' is missing{_in(names)}")
            _at(document, path)[missing[1]] = _STAND_INS.get(missing[1])
            return missing[1] in _STAND_INS
        if unknown := re.fullmatch(r"Object contains unknown field `(.*)`", what):
            hint, meant = (ask(tuple(names), unknown[1]) for ask in (_spelling().of_key, _spelling().key_meant))
            reader.refuse([*names, unknown[1]], f"unknown key '{unknown[1]}'{_in(names)}{hint}")
            holder = _at(document, path)
            content = holder.pop(unknown[1])
            if meant and meant not in holder:  # what is wrong in it is told too
                holder[meant] = content
                self.typed[*names, meant] = unknown[1]
            return True
        *above, last = path or [-1]
        holder = _at(document, above)
        if last == -1 and isinstance(holder, dict):  # one of the values of a table: the library does not say which
            wrong = [key for key, value in holder.items() if not _fits(value, what)]
            if not wrong:
                reader.refuse(names, f"a value in [{'.'.join(names)}]: {what}")
        else:
            wrong = [last]
        for key in wrong:
            self.mistyped([*names, key] if last == -1 and isinstance(key, str) else names, what, holder[key], reader)
        for key in wrong:
            holder.pop(key)
            if key in _STAND_INS:
                holder[key] = _STAND_INS[key]
        return bool(wrong)

    def mistyped(self, path: list[str], what: str, value: Any, reader: Reader) -> None:
        """Refuse a value that is no text, no list, or not what it has to be."""
        name, listed = ".".join(path), isinstance(value, str) and len(path) > 1
        if kind := re.fullmatch(r"Expected `(.*)`, got `(.*)`", what):
            wanted = _WORDS.get(kind[1], kind[1])
            near = f': did you mean "{value}"?' if kind[1].startswith("str") and isinstance(value, int | float) else ""
            near = f': did you mean ["{value}"]?' if kind[1] == "array" and isinstance(value, str) else near
            reader.refuse(path, f"'{name}' must be {wanted}{near}")
        elif "matching regex" in what and path[-1:] == ["name"]:
            near = re.sub(r"[^A-Za-z0-9._-]+", "-", str(value)).strip("-._").lower()
            hint = f'; did you mean "{near[:64]}"?' if near else ""
            reader.refuse(path, f"'{name}' may hold letters, digits, '.', '_' and '-' only{hint}")
        elif most := _LENGTH.search(what):
            reader.refuse(path, f"'{name}' is longer than {most[1]} characters", value if listed else None)
        elif "matching regex" in what:
            reader.refuse(
                path, f"'{name}' has to stand on one line, without control characters", value if listed else None
            )
        else:
            reader.refuse(path, f"'{name}': {what}")


def _fits(value: Any, what: str) -> bool:
    """Whether it is not this value of a table that the library's message is about."""
    most = _LENGTH.search(what)
    return isinstance(value, str) and (len(value) <= int(most[1]) if most else value.isprintable())


def _in(path: Sequence[str]) -> str:
    return f" in [{'.'.join(path)}]" if path else ""


def _at(document: Any, path: Sequence[str | int]) -> Any:
    for step in path:
        document = document[step]
    return document


def _on_one_line(document: dict[str, Any]) -> dict[str, Any]:
    """The document with notes that were written on several lines brought onto one."""
    notes = document.get("notes")
    if not isinstance(notes, dict):
        return document
    joined = {
        key: re.sub(r"[ \t]*\r?\n[ \t]*", " ", note.strip()) if isinstance(note, str) else note
        for key, note in notes.items()
    }
    return {**document, "notes": joined}
