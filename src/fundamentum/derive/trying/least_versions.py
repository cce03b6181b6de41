"""Versions of libraries and extensions that a program holds against what it needs, and how it needs PHP to be built."""

from collections.abc import Iterator
from typing import Final, Literal

from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.php_source.nodes import names_around
from fundamentum.derive.statements.requirement_names import OF_REQUIREMENTS
from fundamentum.derive.trying.beneath import (
    BITS,
    EXTENSION,
    FEATURE,
    LIBRARY,
    OTHERWISE,
    THREADS,
    before,
    of_text,
    written_out,
)
from fundamentum.derive.trying.coming import Comes
from fundamentum.derive.trying.runs import ENOUGH, Run
from fundamentum.derive.trying.said_at import need_not_be
from fundamentum.derive.trying.trials import Trial
from fundamentum.derive.trying.usual_settings import DIRECTIVE
from fundamentum.derive.trying.worlds import World

MAX_WRITTEN: Final = 20
"""Versions that are tried of one thing."""
_LEAST: Final = "0.0.1"
_LITERALS: Final = frozenset({"string", "encapsed_string", "integer", "float"})
_DEMANDS: Final = ("stops", "reports")
_OF_BUILDS: Final = {BITS: ("64", "32"), THREADS: ("false", "true")}
"""What a build is as usual, and otherwise."""


def beneath(trial: Trial, *, top: bool) -> Iterator[tuple[str, Wish]]:
    """File and wish, for each library, extension or build on which something depends in one way into a program.

    ``top``: of a file that is gone through as a whole.
    """
    for name in list(trial.base.world.asked) if trial.base.end != ENOUGH else ():
        what = name.removeprefix(DIRECTIVE)
        if name == what:
            continue
        if what.startswith((LIBRARY, EXTENSION)):
            yield from _least(trial, name, what, top)
        elif what.startswith(FEATURE):
            yield from _feature(trial, name, what, top)
        elif what in _OF_BUILDS:
            yield from _build(trial, name, what, top)


def _least(trial: Trial, name: str, what: str, top: bool) -> Iterator[tuple[str, Wish]]:
    """The lowest version with which the program does not end, or report an error, as it does with the lowest of all."""

    def refused(version: str) -> bool:
        comes = trial.compared(_on(trial, what, version), (name,))
        return bool(comes.outcome) and not comes.doubt

    lowest = _on(trial, what, _LEAST)
    comes = trial.compared(lowest, (name,))
    if not comes.outcome or comes.doubt:
        return  # whoever only does something otherwise can do with both
    for version in _written(trial, what, lowest):
        if not refused(version) and refused(before(version)):
            yield _wish(trial, name, what, f">={version}", lowest, comes, top)
            return


def _on(trial: Trial, what: str, value: str) -> Run:
    return trial.run(World(version=trial.version, settings={what: value}))


def _written(trial: Trial, what: str, lowest: Run) -> list[str]:
    """The versions in what is gone through, those first that stand next to what asks."""
    asking = trial.place((f"{DIRECTIVE}{what}",), lowest).part
    at = asking.node.start_byte
    literals = [part for part in {**trial.base.seen, **lowest.seen} if part.type in _LITERALS]
    literals.sort(key=lambda part: (part.file is not asking.file, abs(part.node.start_byte - at)))
    versions = dict.fromkeys(filter(None, (written_out(what, part.text) for part in literals)))
    return [version for version in versions if any(of_text(version))][:MAX_WRITTEN]


def _feature(trial: Trial, name: str, what: str, top: bool) -> Iterator[tuple[str, Wish]]:
    """Whether an extension has to have been built with something."""
    without = _on(trial, what, OTHERWISE)
    comes = trial.compared(without, (name,))
    if comes.outcome in (*_DEMANDS, "warns") and not comes.doubt:
        yield _wish(trial, name, what, "", without, comes, top)


def _build(trial: Trial, name: str, what: str, top: bool) -> Iterator[tuple[str, Wish]]:
    """Whether PHP has to be built as it usually is, or otherwise."""
    other = _on(trial, what, OTHERWISE)
    comes, wanted = trial.compared(other, (name,)), _OF_BUILDS[what][0]
    if not comes.outcome:
        comes, wanted = trial.compared(trial.base, (name,), other), _OF_BUILDS[what][1]
    if comes.outcome in _DEMANDS and not comes.doubt:
        yield _wish(trial, name, what, wanted, other, comes, top)


def _wish(trial: Trial, name: str, what: str, value: str, run: Run, comes: Comes, top: bool) -> tuple[str, Wish]:
    asked = trial.place((name,), run)
    stops = comes.outcome in _DEMANDS and not asked.doubt and not need_not_be(asked.where)
    around = " ".join(names_around(asked.part.node))
    if top and comes.outcome == "stops":
        around = OF_REQUIREMENTS  # whoever asks: without it the page does not run
    start = what.partition(":")[0]
    kind: Literal["library", "extension", "feature", "build"] = start  # type: ignore[assignment]
    part = asked.part
    return part.file.path, Wish(kind, what.partition(":")[2], value, part.line, part.text[:60], stops, around)
