"""What all ways into a program told, as facts of its files: of each place the strongest."""

from collections import defaultdict
from collections.abc import Iterable
from typing import Final, Literal

from fundamentum.derive.families import TOOLS
from fundamentum.derive.php_source.facts import Check, FileFacts, Gate, Wish
from fundamentum.derive.php_source.nodes import called, heading, names_around, nearest
from fundamentum.derive.statements.host_functions import apart, is_of_host
from fundamentum.derive.statements.outcomes import STRENGTH
from fundamentum.derive.statements.requirement_names import OF_REQUIREMENTS, looks_at_requirements
from fundamentum.derive.trying.bounds import Bound, bounds
from fundamentum.derive.trying.coming import SAID, UNLIKE_OTHERS, Comes
from fundamentum.derive.trying.least_versions import beneath
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.said_at import (
    by_choice,
    need_not_be,
    on_command_line,
    stands_beside,
    together_with_another,
)
from fundamentum.derive.trying.settings import wishes
from fundamentum.derive.trying.trials import OUTRIGHT, Told, Trial
from fundamentum.derive.trying.worlds import Asked

_FOR_EACH: Final = ("array_map",)
"""Functions that ask for each member of a list: the answers may be only shown."""
Result = Literal[
    "asked", "exits", "leaves", "throws", "reports", "goes-on", "warns", "listed-required", "listed-recommended"
]
_WEIGHT: Final = (
    "asked",
    "listed-recommended",
    "warns",
    "throws",
    "reports",
    "goes-on",
    "leaves",
    "listed-required",
    "exits",
)


def _says_more(gate: Gate, known: Gate) -> bool:
    """Whether it is worse for the program; or as bad, and without it no page runs at all."""
    more = STRENGTH.index(gate.outcome) - STRENGTH.index(known.outcome)
    said = (not gate.function, gate.sure) > (not known.function, known.sure)
    return more > 0 or (more == 0 and said)


_ENDING: Final = frozenset({"exits", "leaves", "throws"})


class TrialResults:
    """What all trials told, of each place the strongest."""

    def __init__(self) -> None:
        self.checks: dict[tuple[str, str, int, tuple[str, ...]], Check] = {}
        self.gates: dict[tuple[str, int, str, bool], Gate] = {}
        self.wishes: dict[tuple[str, str, int], Wish] = {}

    def take_all(self, trial: Trial, *, top: bool) -> bool:
        """All that one way tells; whether it ends the program on some versions of PHP.

        ``top``: of a file that is gone through as a whole.
        """
        ends = False
        with trial.long_enough():
            for told in trial.told():
                self.take(told, top, trial)
        with trial.long_enough():
            for bound in bounds(trial):
                if trial.on_request(bound.asked):
                    continue
                self.take_bound(bound, top)
                ends = ends or bound.outcome == "stops"
        for name, part in trial.base.world.started.items():
            self.take_wish(part.file.path, Wish("command", name, "", part.line, part.text[:60]))
        for name, part in trial.base.world.written.items():
            self.take_wish(part.file.path, Wish("directory", f"/{name}", "", part.line, f"{called(part.node)}()"))
        with trial.long_enough():
            for where, wish in wishes(trial, top=top):
                self.take_wish(where, wish)
        with trial.long_enough():
            for where, wish in beneath(trial, top=top):
                self.take_wish(where, wish)
        return ends

    def take(self, told: Told, top: bool, trial: Trial) -> None:
        """What comes of an extension.  ``top``: of a file that is gone through as a whole."""
        where = told.asked.where
        if not where.file.path:
            return
        if told.names[0] in TOOLS and told.comes.outcome in ("stops", "reports") and not told.comes.doubt:
            part = told.asked.part
            if together_with_another(part):
                return  # it may be there, as long as the rest does not hold
            around = OF_REQUIREMENTS if top and told.comes.outcome == "stops" else _around(told.asked)
            self.take_wish(where.file.path, Wish("absent", told.names[0], "", part.line, part.text[:60], True, around))
            return
        among = told.names if len(told.names) > 1 else ()
        of_name = told.asked
        for name, own in zip(told.names, told.places or (of_name,), strict=True):
            outcome: Result = _outcome(told.comes, top, of_name)
            if outcome != "asked" and (by_choice(of_name.part, name) or by_choice(of_name.where, name)):
                outcome = "asked"
            in_words = told.comes.how == SAID or outcome == "reports"
            if of_name.doubt and stands_beside(where, chosen=not in_words):
                outcome = "asked"  # it is said to those alone for whom the rest of the condition holds
            if outcome in _ENDING and trial.on_request(of_name):
                outcome = "asked"
            if outcome == "asked" and called(of_name.part.node) in _FOR_EACH and not is_of_host(name):
                continue  # it may be only shown
            followed = told.comes.outcome == "stops" or outcome == "goes-on"
            if not followed and need_not_be(of_name.where):
                outcome = "warns" if outcome != "asked" or of_name.listed else outcome
            elif outcome == "asked" and of_name.listed and not among:
                outcome = "listed-required"
            gone_through = _in_list(where) and not among and (outcome == "throws" or _in_loop(of_name.part))
            if outcome in ("throws", "reports") and told.comes.how != SAID and gone_through:
                outcome = "listed-required"
            ends = top and outcome == "exits"
            # Without such a directory, or program, the page does not run, whoever asks.
            around = (
                OF_REQUIREMENTS
                if ends and is_of_host(name)
                else _around(of_name, told.comes.at, trial.base.begins, ends=ends)
            )
            command_line = name in trial.interfaces.asked_by_commands or on_command_line(of_name.part)
            if not command_line and not among and outcome in (*_ENDING, "reports"):
                command_line = trial.only_for_commands(name)
            with_others = among if outcome != "asked" else ()
            at = own if own.where.file is where.file else of_name
            line, what = at.where.line, at.part.text[:60]
            check = Check(name, outcome, line, what, with_others, around, command_line=command_line)
            key = (where.file.path, name, line, check.among)
            known = self.checks.get(key)
            if known is None or _WEIGHT.index(known.outcome) < _WEIGHT.index(outcome):
                self.checks[key] = check

    def take_bound(self, bound: Bound, top: bool) -> None:
        """A bound of PHP's version."""
        part = bound.asked.part
        in_function = names_around(part.node)[1] and not (top and bound.outcome == "stops")
        gate = Gate(
            bound.operator,
            bound.version,
            part.line,
            part.text[:60],
            bound.outcome,
            _around(bound.asked) if in_function else "",
            not bound.asked.doubt,
        )
        key = (part.file.path, part.line, bound.operator, bound.outcome == "warns")
        known = self.gates.get(key)
        if known is None or _says_more(gate, known):
            self.gates[key] = gate

    def take_wish(self, path: str, wish: Wish) -> None:
        """A setting that something depends on."""
        known = self.wishes.get((path, wish.name, wish.line))
        if path and (known is None or (wish.stops and not known.stops)):
            self.wishes[path, wish.name, wish.line] = wish

    def facts(self) -> list[tuple[str, FileFacts]]:
        """File → its checks, gates and wishes."""
        by_path: dict[str, list[Check]] = defaultdict(list)
        for (path, *_), check in self.checks.items():
            by_path[path].append(check)
        out = []
        others = {path for path, *_ in self.gates} | {path for path, *_ in self.wishes}
        for path in by_path.keys() | others:
            checks, of_hosts = apart(by_path.get(path, ()))
            stated = tuple(wish for (where, *_), wish in self.wishes.items() if where == path)
            of_path = tuple(gate for (where, *_), gate in self.gates.items() if where == path)
            out.append((path, FileFacts(checks=checks, gates=of_path, wishes=(*of_hosts, *stated))))
        return out


def agreed(facts: Iterable[Check | Gate | Wish]) -> list[Check | Gate | Wish]:
    """What several parts told of one file; of two values at one place, the one without which the program stops.

    A check without which one way goes on, where it ends without others, is no error of another.
    """
    every = list(dict.fromkeys(facts))
    stopping = {(wish.name, wish.line) for wish in every if isinstance(wish, Wish) and wish.stops}
    going_on = {_place(check) for check in every if isinstance(check, Check) and check.outcome == "goes-on"}
    out: list[Check | Gate | Wish] = []
    for fact in every:
        if isinstance(fact, Wish) and not fact.stops and (fact.name, fact.line) in stopping:
            continue
        if isinstance(fact, Check) and _place(fact) in going_on and fact.outcome in ("reports", "listed-required"):
            continue  # in words alone: nearer to the program's end it does go on
        out.append(fact)
    return out


def _place(check: Check) -> tuple[str, int, tuple[str, ...]]:
    return check.extension, check.line, check.among


def _in_list(where: Part) -> bool:
    """Whether a name is a member of a list, or a key of it."""
    element = where.above
    return element is not None and element.type == "array_element_initializer"


_LOOPS: Final = ("foreach_statement", "for_statement", "while_statement", "anonymous_function", "arrow_function")


def _in_loop(part: Part) -> bool:
    """Whether it is asked for each of several."""
    return nearest(part.node, *_LOOPS) is not None or called(part.node).startswith("array_")


def _around(asked: Asked, comes_at: Part | None = None, begins: Part | None = None, *, ends: bool = False) -> str:
    """The names of the classes and functions around the name, and around what asks for it.

    ``comes_at``: where something comes of it; if requirements are looked at there, and where the way ``begins``, or a
    page ``ends`` there for what another file asks, that is said.
    """
    near, far = asked.where.node, asked.part.node
    said: tuple[str, ...] = ()
    if comes_at is not None and comes_at.file is not asked.where.file:
        # An installer keeps what any part of the program tells of, if that is called from there.
        ways = (part for part in (comes_at, begins) if part is not None)
        looks = all(looks_at_requirements(part.file.path, " ".join(names_around(part.node))) for part in ways)
        said = (OF_REQUIREMENTS,) if looks or ends else ()
    return " ".join((*names_around(near), *names_around(far), *said, heading(near), heading(far)))[:200]


def _outcome(comes: Comes, top: bool, asked: Asked) -> Result:
    if comes.doubt or not comes.outcome:
        return "asked"
    if comes.outcome != "stops":
        return "goes-on" if comes.how == UNLIKE_OTHERS else comes.outcome
    if comes.how == "leaves":
        return "leaves" if top else "asked"
    # What is called only where something else holds may be for that alone.
    for_a_part = asked.doubt and (comes.how == "throws" or asked.part.function_above is not None)
    if top and not for_a_part:
        return "exits"
    return "exits" if comes.how == "exits" and OUTRIGHT.search(asked.part.text) else "throws"
