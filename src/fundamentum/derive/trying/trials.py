"""What comes of it where a server lacks something: one way into a program gone through on several servers.

The first lacks nothing.  What the program asked for there is then taken away, one after the other; what it does
otherwise is what comes of it.  Where nothing comes of one alone, all are taken away together: of those without which
it ends then, any one is enough.
"""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cached_property
from typing import Any, Final, NamedTuple

from fundamentum.derive.php_source.facts import Outcome
from fundamentum.derive.php_source.nodes import Patience, TooLong, names_around
from fundamentum.derive.statements.outcomes import STRENGTH, WARNING, notifies, refused, reported
from fundamentum.derive.trying.handing import of_list, said_of
from fundamentum.derive.trying.machine import MAX_STEPS, Seen
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.program import RESERVED, Program
from fundamentum.derive.trying.running import Running
from fundamentum.derive.trying.telling import (
    is_asked,
    is_kept,
    is_key,
    leads_on,
    only_informs,
    printed_with,
    where_no_error_is,
    within,
    worse,
)
from fundamentum.derive.trying.values import Array, Thing, shape
from fundamentum.derive.trying.versions import Version
from fundamentum.derive.trying.worlds import DIRECTIVE, PHP, Asked, World

MAX_ASKED: Final = 40
"""Things that one way into a program asks for."""
_OTHERS: Final[tuple[Version, ...]] = ((7, 4, 33), (5, 6, 40), (9, 1, 0), (5, 0, 0))
"""Versions to begin with where the program does not run on the newest."""
ENOUGH: Final = "enough"
"""How a way ends that is too long to be gone through."""
SAID: Final = "said"
"""How it is reported: in words alone."""
UNLIKE_OTHERS: Final = "unlike others"
"""The same: it goes on, where without others that are asked for at the same place it does not."""
MAX_TRIAL: Final = 50_000
"""Steps of all runs of one way together."""
MIN_TRIAL: Final = 6_000
"""Those that each way has, however few are left for all."""
PART_OF_ALL: Final = 16
"""That part of all steps which are left is for one way; twice as much if it looks at requirements."""
MAX_KEPT: Final = 8
"""Runs of one way that are kept: each holds all that it came to."""
MAX_FURTHER: Final = 4
MAX_SAID: Final = 400
"""Characters of what is printed at once."""
_ENDS: Final = ("exits", "throws")
_TEXTS: Final = frozenset({"string", "encapsed_string", "text"})
_TELLS: Final = frozenset({"echo_statement", "print_intrinsic", "text", "function_call_expression"})

Way = Callable[[Running], tuple[str, Any]]
"""A way into a program: what goes it, and how it ends."""


class Comes(NamedTuple):
    """What comes of something that is missing."""

    outcome: Outcome
    how: str = ""
    """``exits``, ``throws``, ``leaves``; ``said``: it only says so in words; ``unlike others``: see there."""
    doubt: bool = False
    """Whether that hangs on something else, which is not known."""
    at: Part | None = None
    """Where, if that is known."""


class Told(NamedTuple):
    """What comes of one thing that is missing, or of several together."""

    names: tuple[str, ...]
    comes: Comes
    asked: Asked


class Run:
    """One way gone through on one server."""

    def __init__(self, program: Program, way: Way, world: World) -> None:
        self.world = world
        machine = Running(program, world)
        self.end, self.value = way(machine)
        self.ended_at = machine.ended_at
        self.perhaps_ended = dict(reversed(machine.perhaps_ended))
        self.seen, self.handed, self.rows = machine.seen, machine.handed, machine.rows
        self.effects = machine.effects()
        self.steps = machine.steps
        self.thorough = machine.most > MAX_STEPS
        """Whether it is there to look at what is required."""
        program.ledger.steps -= machine.steps

    def signature(self) -> int:
        """The same for runs in which the program did the same, though its files were read anew."""
        seen = frozenset((part.file.path, part.node.start_byte, part.node.end_byte) for part in self.seen)
        return hash((seen, self.end, repr(list(self.handed.values()))))


class Trial:
    """One way into a program, on all servers that tell something."""

    def __init__(self, program: Program, way: Way) -> None:
        self.program, self.way = program, way
        self.steps, self.most, self.least = 0, MAX_TRIAL, 0
        self._kept: list[Run] = []
        self.otherwise: set[tuple[str, str]] = set()
        """What it leaves behind for others that depends on what is there: kind and name; its own end, as no kind."""
        self.base = self.run(World())
        if PHP in self.base.world.asked and _refuses(self.base):
            compared = sorted(self.base.world.looks.compared.values(), reverse=True)
            versions = [*_OTHERS, *((major, minor, max(patch, 1) - 1) for major, minor, patch in compared), *compared]
            others = (self.run(World(version=version)) for version in versions)
            self.base = next((run for run in others if not _refuses(run)), self.base)
        self.least = 0 if self.base.thorough else RESERVED
        self.version = self.base.world.version
        self.asked: dict[str, list[Asked]] = dict(self.base.world.asked)
        looks = self.base.world.looks
        left = {("", ""): self.base.value} | self.base.effects if PHP in self.asked else {}
        self.otherwise = {key for key, value in left.items() if looks.in_value(value)}

    @cached_property
    def for_command_line(self) -> frozenset[str]:
        """What is asked for, but not where a page is."""
        if not self.base.world.interface_asked:
            return frozenset()
        page = Run(self.program, self.way, World(version=self.version, page=True))
        if page.end in _ENDS or page.end == ENOUGH:
            return frozenset()  # a script that may look at what pages need
        return frozenset(self.base.world.asked.keys() - page.world.asked.keys())

    @contextmanager
    def long_enough(self) -> Iterator[None]:
        """What is done so far and no further; what comes next begins anew.

        One way takes but a part of the steps that are left for all, so that there are some for the others.
        """
        share = self.program.ledger.steps // (PART_OF_ALL if not self.base.thorough else PART_OF_ALL // 2)
        self.steps, self.most = 0, min(MAX_TRIAL, max(share, MIN_TRIAL))
        with suppress(TooLong):
            yield

    def run(self, world: World) -> Run:
        """Go the way on a server; of several that answer alike only on one."""
        Patience.tick()
        for known in self._kept:
            if known.world.answers_like(world):
                return known
        if self.program.ledger.steps < self.least or self.steps > self.most:
            raise TooLong
        run = Run(self.program, self.way, world)
        self.steps += run.steps
        self._kept.append(run)
        if len(self._kept) > MAX_KEPT:
            del self._kept[1]  # the first is the one that others are held against
        base = getattr(self, "base", run)
        differing = (key for key in run.effects.keys() & base.effects.keys() if run.effects[key] != base.effects[key])
        self.otherwise.update(differing)
        if (run.end, shape(run.value)) != (base.end, shape(base.value)):
            self.otherwise.add(("", ""))
        return run

    def _without(self, names: Sequence[str]) -> Run:
        run = self.run(World(frozenset(names), self.version))
        for name, places in run.world.asked.items():
            self.asked.setdefault(name, places)
        return run

    def told(self) -> Iterator[Told]:
        """What comes of each extension that is missing, and of several together."""
        names = self._named()
        alone: dict[str, Told] = {}
        if names and not self._matters(names):
            for name in names:
                yield Told((name,), Comes(""), self.place((name,), self.base))
            return
        for name in names:
            run = self._without([name])
            alone[name] = Told((name,), self.compared(run, (name,)), self.place((name,), run))
            names += [one for one in self._named() if one not in names]
        stopping = {
            told.asked.part for told in alone.values() if told.comes.outcome == "stops" and not told.comes.doubt
        }
        for told in alone.values():
            if told.comes.outcome == "reports" and told.asked.part in stopping:
                # Without others it stops there, and not without this.
                told = told._replace(comes=Comes("warns", UNLIKE_OTHERS))
            yield told
        for outcome in STRENGTH[:0:-1]:
            left = [name for name, told in alone.items() if _weight(told.comes) < _weight(Comes(outcome))]
            while len(left) > 1 and (found := self._together(left, outcome)) is not None:
                if len(found.names) > 1:
                    yield found
                left = [name for name in left if name not in found.names]

    def _matters(self, names: Sequence[str]) -> bool:
        """Whether the program does anything otherwise where all of some things are missing."""
        missing = list(names)
        run = self._without(missing)
        if further := [one for one in self._named() if one not in missing]:
            run = self._without(missing + further)
        if self.base.end == ENOUGH:
            return run.end in _ENDS  # what else it does otherwise may stand behind what was gone through
        alike = run.seen.keys() == self.base.seen.keys() and run.end == self.base.end
        return not alike or run.handed != self.base.handed or run.ended_at is not self.base.ended_at

    def _named(self) -> list[str]:
        return [name for name in self.asked if name != PHP and not name.startswith(DIRECTIVE)][:MAX_ASKED]

    def _together(self, names: Sequence[str], outcome: Outcome) -> Told | None:
        """The fewest of some names of which all have to be missing, so that something comes of it."""
        missing = list(names)
        for _ in range(MAX_FURTHER):
            self._without(missing)
            # What is asked for only where something else is missing.
            further = [one for one in self._named() if one not in missing and one not in self.base.world.asked]
            missing += further
            if not further:
                break
        if not self._comes_to(outcome, missing):
            return None
        for name in list(missing):
            fewer = [one for one in missing if one != name]
            if fewer and self._comes_to(outcome, fewer):
                missing = fewer
        run = self._without(missing)
        return Told(tuple(missing), self.compared(run, missing), self.place(missing, run))

    def _comes_to(self, outcome: Outcome, names: Sequence[str]) -> bool:
        comes = self.compared(self._without(names), names)
        return comes.outcome == outcome and not comes.doubt and comes.how != SAID

    def compared(self, run: Run, names: Sequence[str], base: Run | None = None) -> Comes:
        """What a run comes to beside another; that is the first one, if none is given."""
        base = base or self.base
        depth = self.place(names, run).doubt
        # A version that is kept first may be looked at in a later step of an installer, whichever that is.
        depth += PHP in names and self.base.thorough
        new = self.new(run, base)
        found = self._reported(new, depth)
        if run.end in _ENDS and run.ended_at is not None:
            if run.end == base.end and run.ended_at is base.ended_at:
                other = shape(run.value) != shape(base.value) and run.value not in (0, None)
                return Comes("reports", at=run.ended_at) if other else found
            failed = run.value not in (None, 0, "", False) and not isinstance(run.value, Thing)
            if run.ended_at not in base.seen or new or failed or not where_no_error_is(run.ended_at):
                return Comes("stops", run.end, at=run.ended_at)
        may = {part: at for part, at in run.perhaps_ended.items() if part not in base.perhaps_ended}
        if may:
            part = min(may, key=lambda one: may[one])
            how = "throws" if part.type.startswith("throw") else "exits"
            if may[part] <= depth:
                return Comes("stops", how, at=part)
            if not found.outcome or found.doubt:
                return Comes("stops", how, doubt=True)
        refusal = next((part for part, seen in new if refused(part.node) and seen.doubt <= depth), None)
        if refusal is not None:
            return Comes("stops", "throws", at=refusal)
        if any(part.type == "return_statement" for part, _ in new) and any(notifies(part.node) for part, _ in new):
            return Comes("reports")
        left = run.ended_at is not None and run.ended_at.type == "return_statement" and run.ended_at not in base.seen
        if left and any(part.type in _TELLS for part, _ in new):
            return Comes("stops", "leaves")
        if found.outcome != "reports" and any(leads_on(part) for part in base.seen if part not in run.seen):
            return Comes("reports")
        if found.outcome:
            return found
        return Comes(self._handed_on(run, base, version=PHP in names))

    def new(self, run: Run, base: Run | None = None) -> list[tuple[Part, Seen]]:
        """The parts that are come to only on this server, in order."""
        before = (base or self.base).seen
        return sorted(((part, seen) for part, seen in run.seen.items() if part not in before), key=_order)

    def _reported(self, new: Sequence[tuple[Part, Seen]], depth: int) -> Comes:
        """The strongest that one of some parts reports."""
        found = kept = Comes("")
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
                kept = max(kept, comes, key=_weight)
            elif told and _weight(comes) > _weight(found):
                found = comes
        return found if found.outcome else kept

    def _handed_on(self, run: Run, base: Run, *, version: bool) -> Outcome:
        """What is said of a result that is worse, where it is handed on."""
        worse = self.worse(run, base)
        # What an object says of itself counts before what its class does.
        parts = [part for part in worse if part.type == "object_creation_expression"] or worse
        told = [
            of_list(part.node)
            if any(isinstance(value, Array) for value in run.handed[part])
            else said_of(part.node, run.rows.get(part), version=version)
            for part in parts
        ]
        return max(told, key=STRENGTH.index, default="")

    def worse(self, run: Run, base: Run) -> list[Part]:
        """The places where a result is handed on that is worse than in another run."""
        return [
            part
            for part, values in run.handed.items()
            if (before := base.handed.get(part, [])) != values and any(map(worse, values, before))
        ]

    def place(self, names: Sequence[str], run: Run) -> Asked:
        """Where one of some things was asked for last, before something came of it."""
        new = self.new(run)
        order = new[0][1].order if new else MAX_STEPS
        places = [place for name in names for place in run.world.asked.get(name) or self.asked.get(name) or ()]
        before = [place for place in places if place.order <= order] or places
        nowhere = Asked(0, self.program.nowhere, self.program.nowhere, 0)
        return max(before, key=lambda place: place.order, default=nowhere)


def _refuses(run: Run) -> bool:
    """Whether a program seems not to run on a version: it ends, or tells why and leaves; not where it leads on."""
    if run.end in _ENDS:
        return not any(map(leads_on, run.seen))
    left = run.ended_at is not None and run.ended_at.type == "return_statement" and run.ended_at.function_above is None
    return left and any(reported(part.node, extension=False) == "reports" for part in run.seen if part.type in _TEXTS)


def _weight(comes: Comes) -> tuple[bool, int, bool]:
    return not comes.doubt, STRENGTH.index(comes.outcome), comes.how != SAID


def _order(one: tuple[Part, Seen]) -> int:
    return one[1].order
