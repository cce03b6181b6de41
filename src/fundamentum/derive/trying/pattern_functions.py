"""PHP's functions that take a text apart by a pattern, or by a format, and write what they find where they are told."""

import re
from itertools import islice
from typing import Any, Final

from fundamentum.derive.php_source.functions import FUNCTIONS, of_pattern
from fundamentum.derive.trying.builtins import named, of_scalars
from fundamentum.derive.trying.comparing import number, written
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.values import MAX_MEMBERS, UNKNOWN, Array, Unknown, lifted

MAX_LIST: Final = 120
"""Characters of a text of which all places are looked for that fit."""


@named("preg_match")
def _matched(machine: Machine, given: Given) -> Any:
    """Whether a plain pattern fits; what it finds is written where the program says."""
    told = of_scalars(FUNCTIONS["preg_match"])(machine, Given.of(*given.values[:2]))
    cell = given.cells.get(2)
    if cell is not None:
        pattern, subject = given.values[:2]
        match = lifted(lambda shape, other: of_pattern(shape).search(written(other)), pattern, subject)
        groups = [match[0], *match.groups("")] if isinstance(match, re.Match) else []
        machine.memory.write(cell, Array.of(groups) if not isinstance(told, Unknown) else UNKNOWN)
    return told


@named("preg_match_all")
def _all_matched(machine: Machine, given: Given) -> Any:
    """The same of all places that fit: a list of them for each group."""
    pattern, subject = given.at(0), given.at(1)
    matches = lifted(
        lambda shape, other: Array.of(_matches(of_pattern(shape), written(other)[:MAX_LIST])), pattern, subject
    )
    if (cell := given.cells.get(2)) is not None:
        plain = isinstance(matches, Array) and len(given.values) < 4
        machine.memory.write(cell, matches if plain else UNKNOWN)
    return len(matches.items[0].items) if isinstance(matches, Array) else UNKNOWN


def _matches(pattern: re.Pattern[str], subject: str) -> list[Array]:
    every = list(islice(pattern.finditer(subject), MAX_MEMBERS))
    return [Array.of(match[group] or "" for match in every) for group in range(pattern.groups + 1)]


_CONVERSIONS: Final = {
    "d": r"([+-]?\d{1,18})",
    "u": r"(\d{1,18})",
    "s": r"(\S+)",
    "c": r"(.)",
    "f": r"(\d{1,18}(?:\.\d*)?)",
}


@named("sscanf")
def _scanned(machine: Machine, given: Given) -> Any:
    """What a text holds at the places of a format: written where the program says, or as a list."""

    def found(subject: Any, form: Any) -> Array:
        parts = re.split(r"%(\w)", written(form))
        values: list[Any] = [None] * (len(parts) // 2)
        rest = written(subject)
        for at, kind in enumerate(parts[1::2]):
            match = re.match(rf"{re.escape(parts[2 * at].strip())}{_CONVERSIONS[kind]}", rest)
            if match is None:
                break
            values[at], rest = (number(match[1]) if kind in "duf" else match[1]), rest[match.end() :]
        return Array.of(values)

    told = lifted(found, *given.values[:2])
    for at, value in enumerate(told.values() if isinstance(told, Array) else ()):
        if (cell := given.cells.get(at + 2)) is not None:
            machine.memory.write(cell, value)
    return told
