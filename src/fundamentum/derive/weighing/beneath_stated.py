"""What the program itself states of what lies beneath it: versions of libraries and extensions, how PHP is built."""

from collections.abc import Collection, Iterator
from typing import Final

from fundamentum.catalog.libraries import tables
from fundamentum.catalog.symbols import EVERYWHERE
from fundamentum.derive.beside.platform_packages import Demand
from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.statements.requirement_names import looks_at_requirements
from fundamentum.derive.weighing.evidence import Evidence
from fundamentum.model.constraints import EVERYTHING, intervals
from fundamentum.model.needs_value import Level

_REPORTS: Final = "the program reports an error where it is {}"
_ADVISES: Final = "the program advises it"
_ALWAYS: Final = EVERYWHERE | {"libxml"}
BENEATH: Final = ("library", "extension", "feature", "build", "absent")
"""Kinds of wishes that are of what lies beneath."""


def stated_beneath(evidence: Evidence, required: Collection[str]) -> Iterator[Demand]:
    """What the application's own files state.

    ``required``: extensions that are; what lies beneath others is no more than advised.
    """
    for path, facts in sorted(evidence.facts.items()):
        if evidence.files[path].part != "own":
            continue
        for wish in facts.wishes:
            if wish.kind in BENEATH and (demand := _demand(path, wish, required)) is not None:
                yield demand


def _demand(path: str, wish: Wish, required: Collection[str]) -> Demand | None:
    where, what = f"{path}:{wish.line}", wish.how
    level: Level
    if wish.kind == "absent":
        stops = looks_at_requirements(path, wish.around)
        demand = Demand("absent", wish.name, (EVERYTHING,), "", where, rule=_REPORTS.format("there"), what=what)
        return demand if stops else None
    if wish.kind == "build":
        stops = wish.stops and looks_at_requirements(path, wish.around)
        rule, built = _REPORTS.format("built otherwise"), wish.value
        demand = Demand("build", wish.name, (EVERYTHING,), "", where, "required", rule, built, what)
        return demand if stops else None
    if wish.kind == "feature":
        asked = wish.stops and wish.name.partition(":")[0] in required
        rule = _REPORTS.format("built without it") if asked else _ADVISES
        level = "required" if asked else "recommended"
        return Demand("feature", wish.name, (EVERYTHING,), "", where, level, rule, what=what)
    of = wish.name if wish.kind == "extension" else tables().libraries[wish.name].extension
    level = "required" if wish.stops and (of in required or of in _ALWAYS) else "recommended"
    rule = _REPORTS.format("older") if level == "required" else _ADVISES
    if wish.kind == "extension":
        accepted = intervals(wish.value)
        counts = wish.stops or of not in required  # else what only warns would make an older one an error
        return Demand("extension", wish.name, accepted, "", where, level, rule, what=what) if counts else None
    return Demand("library", wish.name, intervals(wish.value), "", where, level, rule, what=what)
