"""What comes of something that is missing: what a program does otherwise than on a server that has it."""

import re
from collections.abc import Sequence
from typing import Final, NamedTuple

from fundamentum.derive.php_source.facts import Outcome
from fundamentum.derive.php_source.nodes import names_around
from fundamentum.derive.statements.outcomes import STRENGTH, WARNING, notifies, refused, reported
from fundamentum.derive.trying.handing import of_list, said_of
from fundamentum.derive.trying.machine import Seen
from fundamentum.derive.trying.parts import FUNCTIONS, Part
from fundamentum.derive.trying.runs import ENDS, Run
from fundamentum.derive.trying.shapes import shape
from fundamentum.derive.trying.telling import (
    is_asked,
    is_kept,
    is_key,
    only_informs,
    printed_with,
    where_no_error_is,
    within,
)
from fundamentum.derive.trying.values import Array, Instance

SAID: Final = "said"
"""How it is reported: in words alone."""
UNLIKE_OTHERS: Final = "unlike others"
"""The same: it goes on, where without others that are asked for at the same place it does not."""
MAX_SAID: Final = 400
"""Characters of what is printed at once."""
_ADVICE: Final = re.compile(r"recommend|\badvise|\A['\"](?:warn(?:ing)?|notice)['\"]\Z", re.I)
_WARNS: Final = re.compile(r"recommend|\badvise|\bwarning\b", re.I)
_TELLS: Final = frozenset({"echo_statement", "print_intrinsic", "text", "function_call_expression"})


class Comes(NamedTuple):
    """What comes of something that is missing."""

    outcome: Outcome
    how: str = ""
    """``exits``, ``throws``, ``leaves``; ``said``: it only says so in words; ``unlike others``: see there."""
    doubt: bool = False
    """Whether that hangs on something else, which is not known."""
    at: Part | None = None
    """Where, if that is known."""


def weight(comes: Comes) -> tuple[bool, int, bool]:
    """How strong it is, to be compared with that of others."""
    return not comes.doubt, STRENGTH.index(comes.outcome), comes.how != SAID


def what_comes(run: Run, base: Run, depth: int, *, version: bool = False, setting: bool = False) -> Comes:
    """What a run comes to beside another.

    ``depth``: on how many things that are not known it hung where it was asked; ``version``: for PHP's version;
    ``setting``: for one of its settings.
    """
    new = run.new_beside(base)
    comes = _reported(new, depth)
    if run.end in ENDS and run.ended_at is not None:
        if run.end == base.end and run.ended_at is base.ended_at:
            other = shape(run.value) != shape(base.value) and run.value not in (0, None)
            if other:
                return Comes("reports", at=run.ended_at)
            return comes if comes.outcome or not setting else Comes(_advised(new, _WARNS))
        failed = run.value not in (None, 0, "", False) and not isinstance(run.value, Instance)
        if run.ended_at not in base.seen or new or failed or not where_no_error_is(run.ended_at):
            return Comes("stops", run.end, at=run.ended_at)
    if (perhaps := _perhaps(run, base, depth)) is not None and (not perhaps.doubt or not comes.outcome or comes.doubt):
        return perhaps
    refusal = next((part for part, seen in new if refused(part.node) and seen.doubt <= depth), None)
    if refusal is not None:
        return Comes("stops", "throws", at=refusal)
    if any(part.type == "return_statement" for part, _ in new) and any(notifies(part.node) for part, _ in new):
        return Comes("reports")
    left = run.left_at is not None and run.left_at not in base.seen
    if left and any(part.type in _TELLS for part, _ in new):
        return Comes("stops", "leaves")
    if comes.outcome != "reports" and run.leads_on_less(base):
        return Comes("reports")
    if comes.outcome == "warns" and _answered_no(run, base, version=version):
        return Comes("reports")  # whatever it calls what it says beside that
    if comes.outcome:
        return comes
    handed = _handed_on(run, base, version=version)
    if handed or not (version or setting):
        return Comes(handed)
    return Comes(_advised(new, _WARNS if setting else _ADVICE))


def _advised(new: Sequence[tuple[Part, Seen]], advice: re.Pattern[str]) -> Outcome:
    """Whether a text that is said of an older version advises a later one, or calls itself a warning."""
    texts = (part.text for part, _ in new if part.type in ("string", "encapsed_string"))
    return "warns" if any(advice.search(text[:MAX_SAID]) for text in texts) else ""


def _perhaps(run: Run, base: Run, depth: int) -> Comes | None:
    """That the program ends on one of some ways, of which it is not known which it goes."""
    may = {part: at for part, at in run.perhaps_ended.items() if part not in base.perhaps_ended}
    if not may:
        return None
    part = min(may, key=lambda part: may[part])
    how = "throws" if part.type.startswith("throw") else "exits"
    return Comes("stops", how, at=part) if may[part] <= depth else Comes("stops", how, doubt=True)


def _reported(new: Sequence[tuple[Part, Seen]], depth: int) -> Comes:
    """The strongest that one of some parts reports."""
    strongest = kept = Comes("")
    warned: set[Part] = set()
    for part, seen in new:
        if within(part, warned) or is_key(part) or is_asked(part):
            continue
        told = "" if only_informs(part) else reported(part.node, extension=True)
        if told == "warns":
            warned.add(part)  # what only warns may say that something is missing
        elif told and (WARNING.search(names_around(part.node)[1]) or WARNING.search(printed_with(part)[:MAX_SAID])):
            told = "warns"
        how = SAID if told and not reported(part.node, extension=False) else ""
        comes = Comes(told, how, seen.doubt > depth, part)
        if told and is_kept(part):
            kept = max(kept, comes, key=weight)
        elif told and weight(comes) > weight(strongest):
            strongest = comes
    return strongest if strongest.outcome else kept


def _answered_no(run: Run, base: Run, *, version: bool) -> bool:
    """Whether a function that answers for all that is required says no."""
    functions = (part for part in run.worse_than(base) if part.type in FUNCTIONS and run.handed[part][-1] is False)
    return any(said_of(part.node, run.rows.get(part), version=version) == "reports" for part in functions)


def _handed_on(run: Run, base: Run, *, version: bool) -> Outcome:
    """What is said of a result that is worse, where it is handed on."""
    worse = run.worse_than(base)
    # What an object says of itself counts before what its class does.
    parts = [part for part in worse if part.type == "object_creation_expression"] or worse
    told = [
        of_list(part.node)
        if any(isinstance(value, Array) for value in run.handed[part])
        else "warns"
        if any(run.rows.get(part) is row for row in run.exempted)
        else said_of(part.node, run.rows.get(part), version=version)
        for part in parts
    ]
    return max(told, key=STRENGTH.index, default="")
