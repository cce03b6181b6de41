"""A text of requirements as a needs file: what each sentence asks, with the sentence as its note."""

import re
from collections.abc import Iterable
from typing import Any, Final

import msgspec
import tomlkit

from fundamentum.errors import InputError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import Needs
from fundamentum.needs.file import FORMAT, parse
from fundamentum.prose.line import Line
from fundamentum.prose.lines import lines_of
from fundamentum.prose.readers import understood
from fundamentum.prose.statement import Statement

MAX_NOTE: Final = 200
_GOES_ON: Final = lazy_regex(
    r"\(?(?:at least|minimum|mindestens|we (?:require|need|recommend)|"
    r"it (?:must|should|has to|is recommended)|required|recommended|expected|"
    r"(?:please )?(?:set|raise|increase|up(?:grade|date)) (?:it |this |that )?to|please (?:set|raise|increase)|"
    r"should be|must be)\b",
    re.I,
)
"""How a sentence begins whose subject stands in the one before."""
_SWITCH_IT: Final = lazy_regex(r"(?:please )?(?:disable|enable|switch|turn)\b", re.I)
"""The same, where the one before says only what is wrong."""


class Understood(msgspec.Struct, frozen=True):
    """What a text says."""

    text: str
    """A needs file."""
    needs: Needs
    sentences: tuple[tuple[Line, tuple[Statement, ...]], ...]
    """Each sentence of which something was understood."""
    rest: tuple[Line, ...]
    """The sentences of which nothing was."""


def requirements(data: bytes, where: str) -> Understood:
    """What a text asks for; an :class:`InputError` if that is nothing that is understood."""
    sentences: list[tuple[Line, tuple[Statement, ...]]] = []
    rest: list[Line] = []
    before: Line | None = None
    for line in lines_of(data):
        statements = tuple(dict.fromkeys(understood(line)))
        goes_on = _GOES_ON.match(line.text) or (rest and rest[-1] is before and _SWITCH_IT.match(line.text))
        if not statements and before and goes_on and line.number - before.number < 3:
            both = msgspec.structs.replace(before, text=f"{before.text.rstrip('. ')}: {line.text}")
            statements = tuple(dict.fromkeys(understood(both)))
            if statements:
                line, rest = both, [line for line in rest if line is not before]
                if sentences and sentences[-1][0] is before and _about(sentences[-1][1]) <= _about(statements):
                    sentences.pop()  # together they say it better
        before = line
        if statements:
            sentences.append((line, statements))
        elif not f": {line.heading}".endswith(f": {line.text}"):
            rest.append(line)
    if not sentences:
        raise InputError(where, "nothing in it is understood as a requirement: see 'fundamentum help texts'")
    name = re.sub(r"[^A-Za-z0-9._-]+", "-", re.split(r"[/\\]", where)[-1].rpartition(".")[0] or where).strip("-._")
    text = _as_file(name[:60] or "text", sentences, where)
    return Understood(text, parse(text, f"{where} (as understood)"), tuple(sentences), tuple(rest))


def _about(statements: Iterable[Statement]) -> set[tuple[tuple[str, ...], str]]:
    return {(statement.table, statement.key) for statement in statements}


def _as_file(name: str, sentences: Iterable[tuple[Line, tuple[Statement, ...]]], where: str) -> str:
    """A needs file.  What would make it contradict itself, or cannot be read, is left out: the first word counts."""
    document: dict[str, Any] = {"format": FORMAT, "application": {"name": name}}
    notes: dict[str, str] = {}
    keys: set[NeedId] = set()
    every = [(line, statement) for line, statements in sentences for statement in statements]
    # What is advised yields to what is asked for, wherever that stands.
    for line, statement in sorted(every, key=lambda statement_at: statement_at[1].key == "preferred"):
        trial = _added(document, statement)
        if trial is None:
            continue
        try:
            needs = parse(tomlkit.dumps(trial), where)
        except InputError:
            continue
        of_php = statement.table == ("php",) and statement.key in ("version", "preferred")
        for need in needs.needs:
            new = need.key not in keys or (need.key == "php" and "php" not in notes)
            if new and (of_php or need.key != "php"):
                notes[str(need.key)] = line.text[:MAX_NOTE]
        document, keys = trial, {need.key for need in needs.needs}
    document["notes"] = {key: note for key, note in notes.items() if key in keys}
    return tomlkit.dumps(document)


def _added(document: dict[str, Any], statement: Statement) -> dict[str, Any] | None:
    """The document with one more entry; None where it has it."""
    trial: dict[str, Any] = msgspec.json.decode(msgspec.json.encode(document))
    at = trial
    if statement.key:
        for name in statement.table:
            at = at.setdefault(name, {})
        if statement.key in at:
            joined = _joined(str(at[statement.key]), str(statement.value), statement)
            if joined is None:
                return None
            at[statement.key] = joined
            return trial
        if statement.table[-1] == "recommended" and statement.key in (trial.get(statement.table[0]) or {}).get(
            "required", {}
        ):
            return None
        at[statement.key] = statement.value
        return trial
    for name in statement.table[:-1]:
        at = at.setdefault(name, {})
    listed = at.setdefault(statement.table[-1], [])
    if statement.table[0] == "database" and listed:  # an application works with one of them
        listed[0] = _alternatives(listed[0], str(statement.value))
        return trial
    names = {_bare(part) for entry in _entries(trial, statement.table[0]) for part in entry.split("|")}
    if {_bare(part) for part in str(statement.value).split("|")} <= names:
        return None
    listed.append(statement.value)
    return trial


def _entries(document: dict[str, Any], table: str) -> list[str]:
    """What is listed in a table already, at whichever level."""
    table_read = document.get(table, {})
    return [
        entry for level in ("required", "recommended") for entry in table_read.get(level, ()) if isinstance(entry, str)
    ]


def _alternatives(first: str, other: str) -> str:
    parts = {_bare(part): part.strip() for part in reversed([*first.split("|"), *other.split("|")])}
    return " | ".join(reversed(parts.values()))


def _bare(part: str) -> str:
    return re.split(r"[<>=!]", part)[0].strip().lower()


def _joined(first: str, other: str, statement: Statement) -> str | None:
    """Of two words about one key the stricter: the larger number; for versions both."""
    if first == other:
        return None
    if statement.table == ("php",) and statement.key == "version":
        return None if ">=" in first and ">=" in other else f"{first}, {other}"
    sizes = [_amount(text) for text in (first, other)]
    if None in sizes:
        return None
    return other if (sizes[1] or 0) > (sizes[0] or 0) else None


def _amount(text: str) -> int | None:
    match = re.fullmatch(r">= (\d+)([KMG]?)", text)
    return int(match[1]) * {"": 1, "K": 2**10, "M": 2**20, "G": 2**30}[match[2]] if match else None
