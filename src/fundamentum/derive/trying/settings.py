"""Settings of PHP that a program holds against what it needs: limits, by trying less and less, and switches."""

import re
from collections.abc import Callable, Iterator
from typing import Final

from fundamentum.catalog.quantity import quantity
from fundamentum.derive.families import COMPARED, LIMITS, SWITCHES, TEXTS, ZONE
from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.php_source.nodes import names_around
from fundamentum.derive.statements.requirement_names import OF_REQUIREMENTS
from fundamentum.derive.trying.coming import Comes
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.runs import ENOUGH, Run
from fundamentum.derive.trying.said_at import need_not_be
from fundamentum.derive.trying.trials import Trial
from fundamentum.derive.trying.usual_settings import DIRECTIVE, MEGABYTE, PLENTY, SIZES
from fundamentum.derive.trying.worlds import Asked, World

LEAST_SIZE: Final = 4
"""Megabytes below which a size is too little to be what anybody needs: something else is reckoned with it."""
_DEMANDS: Final = ("stops", "reports")


def wishes(trial: Trial, *, top: bool) -> Iterator[tuple[str, Wish]]:
    """File and wish, for each setting that something depends on in one way into a program.

    ``top``: of a file that is gone through as a whole.
    """
    for name, places in list(trial.base.world.asked.items()) if trial.base.end != ENOUGH else ():
        directive = name.removeprefix(DIRECTIVE)
        if directive == name:
            continue
        if directive in LIMITS or directive in COMPARED:
            yield from _limit(trial, name, directive)
        elif directive in SWITCHES:
            yield from _switch(trial, name, directive, places[0], top)
        elif directive in TEXTS:
            yield from _text(trial, name, directive, places[0], top)


def _limit(trial: Trial, name: str, directive: str) -> Iterator[tuple[str, Wish]]:
    """The least that a limit may be, so that the program does the same as with plenty."""
    unit = "M" if directive in SIZES else ""

    def run(value: str) -> Run:
        return trial.run(World(version=trial.version, settings={directive: value}))

    lowest = run(f"1{unit}")
    if not _otherwise(trial, lowest) or _otherwise(trial, run(f"{PLENTY - 1}{unit}")):
        return  # nothing depends on it; or it is held against another setting, no number
    comes = trial.compared(lowest, (name,))
    if not comes.outcome and _chooses_constants(trial.base, lowest):
        return
    demands = comes.outcome in _DEMANDS and not comes.doubt

    def enough(value: str) -> bool:
        """Whether it does not stop any more, where it does for the least; else whether it does nothing otherwise."""
        if demands:
            return trial.compared(run(value), (name,)).outcome not in _DEMANDS
        return not _otherwise(trial, run(value))

    written = _written(trial, directive, trial.place((name,), lowest).part)
    tried = (value for value in written if enough(f"{value}{unit}"))
    least = next((value for value in tried if not enough(f"{value - 1}{unit}")), 0)
    least = least or _smallest(1, PLENTY, lambda value: enough(f"{value}{unit}"))
    value = str(least)
    if unit:
        if least < LEAST_SIZE and not (comes.outcome and least in written):
            return
        size = least * MEGABYTE
        in_bytes = not enough(str(size - MEGABYTE))  # else it takes any number for one of megabytes
        if in_bytes and enough(str(size - MEGABYTE // 2)):
            size = _smallest(size - MEGABYTE, size, lambda size: enough(str(size)))
        value = next((f"{size // times}{sign}" for sign, times in _UNITS if size % times == 0), str(size))
    asked = trial.place((name,), lowest)
    stops = demands and not need_not_be(asked.where)
    yield _wish(asked, directive, f">= {value}", f"ini_get('{directive}') is compared", stops)


def _chooses_constants(base: Run, run: Run) -> bool:
    """Whether two runs differ only in what a constant is defined as: a limit that is kept, or a usual one instead."""
    parts = [part for run_of, other in ((run, base), (base, run)) for part, _ in run_of.new_beside(other)]
    statements = [part for part in parts if part.type.endswith("_statement") and part.type not in _AROUND]
    return bool(statements) and all(_DEFINES.match(part.text) for part in statements)


_AROUND: Final = frozenset({"compound_statement", "if_statement"})
_DEFINES: Final = re.compile(r"define\s*\([^,]+,\s*(?!true|false)", re.I)


def _written(trial: Trial, directive: str, asking: Part) -> list[int]:
    """The numbers in what is gone through, in megabytes for a size: most limits are one of them, or the next.

    Those come first that stand next to what asks.
    """
    at_values: dict[int, None] = {}
    numbers = [part for part in trial.base.seen if part.type in _NUMBERS]
    at = asking.node.start_byte
    numbers.sort(key=lambda part: (part.file is not asking.file, abs(part.node.start_byte - at)))
    for part in numbers:
        if match := _NUMBER.fullmatch(part.text):
            number = quantity(match[1].replace("_", "")).number
            for value in (number, -(-number // MEGABYTE)) if directive in SIZES else (number,):
                at_values |= dict.fromkeys(one for one in (value, value + 1) if 1 < one < PLENTY)
    return list(at_values)[:MAX_WRITTEN]


_NUMBERS: Final = frozenset({"integer", "string", "encapsed_string"})
_NUMBER: Final = re.compile(r"['\"]?(\d[\d_]{0,12}\s?[KMG]?)['\"]?", re.I)
MAX_WRITTEN: Final = 30
_UNITS: Final = (("G", MEGABYTE << 10), ("M", MEGABYTE), ("K", 1 << 10))


def _smallest(low: int, high: int, enough: Callable[[int], bool]) -> int:
    """The smallest number that is enough; ``low`` is not, ``high`` is."""
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if enough(middle) else (middle, high)
    return high


def _otherwise(trial: Trial, run: Run) -> bool:
    """Whether the program does anything otherwise."""
    return not run.alike(trial.base) or bool(run.worse_than(trial.base))


def _switch(trial: Trial, name: str, directive: str, asked: Asked, top: bool) -> Iterator[tuple[str, Wish]]:
    """Whether a switch has to be on or off."""
    usual = SWITCHES[directive]
    other = trial.run(World(version=trial.version, settings={directive: "" if usual else "1"}))
    comes, wanted = trial.compared(other, (name,)), usual
    if not comes.outcome:
        comes, wanted = trial.compared(trial.base, (name,), other), not usual
    if directive != ZONE or wanted:
        value = "zone" if directive == ZONE else "on" if wanted else "off"
        yield from _otherwise_than(value, comes, directive, asked, top)


def _text(trial: Trial, name: str, directive: str, asked: Asked, top: bool) -> Iterator[tuple[str, Wish]]:
    """Whether a text has to be as usual."""
    _, otherwise, wanted = TEXTS[directive]
    other = trial.run(World(version=trial.version, settings={directive: otherwise}))
    yield from _otherwise_than(wanted, trial.compared(other, (name,)), directive, asked, top)


def _otherwise_than(value: str, comes: Comes, directive: str, asked: Asked, top: bool) -> Iterator[tuple[str, Wish]]:
    """The wish for a value, if anything comes of it where it is otherwise."""
    if comes.outcome and not comes.doubt:
        stops = comes.outcome in _DEMANDS and not asked.doubt
        around = " ".join(names_around(asked.part.node))
        if top and comes.outcome == "stops":
            around = OF_REQUIREMENTS  # whoever asks: without it the page does not run
        yield _wish(asked, directive, value, f"ini_get('{directive}') is asked", stops, around)


def _wish(asked: Asked, directive: str, value: str, how: str, stops: bool, around: str = "") -> tuple[str, Wish]:
    where = asked.where if asked.where.file.path else asked.part
    return where.file.path, Wish("setting", directive, value, where.line, how, stops, around)
