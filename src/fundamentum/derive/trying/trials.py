"""What comes of it where a server lacks something: one way into a program gone through on several servers.

The first lacks nothing.  What the program asked for there is then taken away, one after the other; what it does
otherwise is what comes of it.  Where nothing comes of one alone, all are taken away together: of those without which
it ends then, any one is enough.
"""

import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from functools import cached_property
from typing import Final, NamedTuple

from fundamentum.derive.families import TOOLS
from fundamentum.derive.php_source.facts import Outcome
from fundamentum.derive.php_source.nodes import Patience, TooLong
from fundamentum.derive.statements.host_functions import OF_PROGRAM, is_of_host
from fundamentum.derive.statements.outcomes import STRENGTH
from fundamentum.derive.statements.requirement_names import looks_at_requirements
from fundamentum.derive.trying.coming import SAID, UNLIKE_OTHERS, Comes, weight, what_comes
from fundamentum.derive.trying.interfaces import Interfaces
from fundamentum.derive.trying.machine import MAX_STEPS
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.program import RESERVED, Program
from fundamentum.derive.trying.runs import ENDS, ENOUGH, Run, Way
from fundamentum.derive.trying.shapes import shape
from fundamentum.derive.trying.usual_settings import DIRECTIVE
from fundamentum.derive.trying.values import Loaded
from fundamentum.derive.trying.versions import Version
from fundamentum.derive.trying.worlds import PHP, Asked, World

MAX_ASKED: Final = 40
"""Things that one way into a program asks for."""
_OTHERS: Final[tuple[Version, ...]] = ((7, 4, 33), (5, 6, 40), (9, 1, 0), (5, 0, 0))
"""Versions to begin with where the program does not run on the newest."""
MAX_TRIAL: Final = 50_000
"""Steps of all runs of one way together."""
MIN_TRIAL: Final = 6_000
"""Those that each way has, however few are left for all."""
PART_OF_ALL: Final = 16
"""That part of all steps which are left is for one way; twice as much if it looks at requirements."""
MAX_KEPT: Final = 8
"""Runs of one way that are kept: each holds all that it came to."""
MAX_FURTHER: Final = 4


OUTRIGHT: Final = re.compile(r"extension_loaded|get_loaded_extensions", re.I)
"""What asks for an extension by its own name."""


def _table(where: Part) -> Part | None:
    """The table in which a name stands, the outermost one."""
    table: Part | None = None
    above = where.above
    while above is not None and not above.type.endswith("_statement"):
        table = above if above.type == "array_creation_expression" else table
        above = above.above
    return table


def _loop(at: Part | None) -> Part | None:
    """The loop over a list in which something comes of what is missing."""
    while at is not None and at.type != "foreach_statement":
        at = at.above
    return at


class Told(NamedTuple):
    """What comes of one thing that is missing, or of several together."""

    names: tuple[str, ...]
    comes: Comes
    asked: Asked
    places: tuple[Asked, ...] = ()
    """Of several where each was asked for."""
    passed: frozenset[Part] = frozenset()
    """What the program came to, and else does not, where it stops or nothing more comes of it."""


def _beside_others(every: Sequence[Told]) -> Iterator[Told]:
    """What comes of each; of some that are asked for at one place, or stand in one table, those are weak that do less.

    Without others it stops there, and not without this.
    """
    ours = (told for told in every if TOOLS.isdisjoint(told.names))
    sure = [told for told in ours if not told.comes.doubt and told.comes.how != SAID]
    stopping = [told for told in sure if told.comes.outcome == "stops"]
    at_parts, in_loops = {told.asked.part for told in stopping}, {_loop(told.comes.at) for told in stopping} - {None}
    passed = frozenset[Part]().union(*(told.passed for told in stopping))
    lists_stop = any(told.asked.listed for told in stopping)
    in_tables: dict[Part | None, int] = {None: 0}
    for told in sure:
        table = _table(told.asked.where)
        in_tables[table] = max(in_tables.get(table, 0), STRENGTH.index(told.comes.outcome)) if table else 0
    for told in every:
        strength = STRENGTH.index(told.comes.outcome)
        most = in_tables.get(_table(told.asked.where), 0)
        less = strength < most and most > STRENGTH.index("warns")
        goes_by = told.comes.at in passed and _loop(told.comes.at) is not None
        shown = not told.comes.outcome and told.asked.listed and told.passed and told.asked.part not in at_parts
        at_same = told.asked.part in at_parts or _loop(told.comes.at) in in_loops or goes_by
        weak = less or (told.comes.outcome == "reports" and at_same) or (shown and lists_stop)
        yield told._replace(comes=Comes("warns", UNLIKE_OTHERS)) if weak else told


class Trial:
    """One way into a program, on all servers that tell something."""

    def __init__(self, program: Program, way: Way) -> None:
        self.program, self.way = program, way
        self.steps, self.most, self.least = 0, MAX_TRIAL, 0
        self._kept: list[Run] = []
        self.otherwise: set[tuple[str, str]] = set()
        """What it leaves behind for others that depends on what is there: kind and name; its own end, as no kind."""
        self.open: set[Part] = set()
        """Functions that call what is not known where something is missing."""
        self.base = self.run(World())
        if PHP in self.base.world.asked and self.base.refuses():
            compared = sorted(self.base.world.looks.compared.values(), reverse=True)
            versions = [*_OTHERS, *((major, minor, max(patch, 1) - 1) for major, minor, patch in compared), *compared]
            others = (self.run(World(version=version)) for version in versions)
            self.base = next((run for run in others if not run.refuses()), self.base)
        self.least = 0 if self.base.thorough else RESERVED
        self.version = self.base.world.version
        self.asked: dict[str, list[Asked]] = dict(self.base.world.asked)
        looks = self.base.world.looks
        left = {("", ""): shape(self.base.value)} | self.base.effects
        self.otherwise = {
            key
            for key, value in left.items()
            if value == Loaded.__name__ or (PHP in self.asked and looks.in_value(value))
        }

    @cached_property
    def interfaces(self) -> Interfaces:
        """The same way as a page, and from the command line."""
        return Interfaces(self.program, self.way, self.base)

    @cached_property
    def _seen_by_visitor(self) -> Collection[Part] | None:
        """What a visitor comes to who asks for a page and sends nothing; None: it ends before, or asks for none."""
        if self.base.alone or not self.base.world.sent_asked:
            return None
        visit = Run(self.program, self.way, World(version=self.version, sends=False))
        return None if visit.end in ENDS or visit.end == ENOUGH else visit.seen.keys()

    def on_request(self, asked: Asked) -> bool:
        """Whether a page asks for it only where a visitor sends something: for one of several things that it does.

        Where requirements are looked at, it is for all of them.
        """
        if looks_at_requirements(asked.where.file.path, ""):
            return False
        seen = self._seen_by_visitor
        return seen is not None and asked.part in self.base.seen and asked.part not in seen

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
        if run.end == "exits" and self._said_outright(run):
            return run  # nobody else has a say in that
        # Whoever calls a function sees what it sets; that a whole file sets something more is seen where it is used.
        new = () if run.alone else {key for key in run.effects.keys() ^ base.effects.keys() if key[0] == "file"}
        self.otherwise.update({key for key, _ in run.effects.items() ^ base.effects.items()}.difference(new))
        for part, around in run.strange.items():
            self.open |= around if part not in base.seen else frozenset()
        if (run.end, shape(run.value)) != (base.end, shape(base.value)):
            self.otherwise.add(("", ""))
        return run

    def _said_outright(self, run: Run) -> bool:
        """Whether it ends for its version, or for extensions that it asks for by their own names."""
        places = (place for name in run.world.missing for place in run.world.asked.get(name, ()))
        return all(OUTRIGHT.search(place.part.text) for place in places)

    def only_for_commands(self, name: str) -> bool:
        """Whether it is for the command line alone that something comes of what is missing."""
        with suppress(TooLong):
            return self.interfaces.only_for_commands(name, self._without([name]))
        return False

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
        with suppress(TooLong):  # what was found by then counts
            for name in names:
                run = self._without([name])
                comes = self.compared(run, (name,))
                new = run.new_beside(self.base) if comes.outcome in ("stops", "") else ()
                passed = frozenset(part for part, _ in new)
                alone[name] = Told((name,), comes, self.place((name,), run), passed=passed)
                names += [named for named in self._named() if named not in names]
        yield from _beside_others(list(alone.values()))
        for alike in (_is_of_php, _is_program):
            yield from self._any_of({name: told for name, told in alone.items() if alike(name)}, alike)

    def _any_of(self, alone: Mapping[str, Told], alike: Callable[[str], bool]) -> Iterator[Told]:
        """What comes of several of a kind that are missing together, where it does not of each of them."""
        for outcome in STRENGTH[:0:-1]:
            left = [name for name, told in alone.items() if weight(told.comes) < weight(Comes(outcome))]
            while len(left) > 1 and (together := self._together(left, outcome)) is not None:
                if len(together.names) > 1 and all(map(alike, together.names)):
                    yield together
                left = [name for name in left if name not in together.names]

    def _matters(self, names: Sequence[str]) -> bool:
        """Whether the program does anything otherwise where all of some things are missing."""
        missing = list(names)
        run = self._without(missing)
        if further := [name for name in self._named() if name not in missing]:
            run = self._without(missing + further)
        if self.base.end == ENOUGH:
            return run.end in ENDS  # what else it does otherwise may stand behind what was gone through
        return not run.alike(self.base) or run.handed != self.base.handed or run.ended_at is not self.base.ended_at

    def _named(self) -> list[str]:
        return [name for name in self.asked if name != PHP and not name.startswith(DIRECTIVE)][:MAX_ASKED]

    def _together(self, names: Sequence[str], outcome: Outcome) -> Told | None:
        """The fewest of some names of which all have to be missing, so that something comes of it."""
        missing = list(names)
        for _ in range(MAX_FURTHER):
            self._without(missing)
            # What is asked for only where something else is missing.
            further = [named for named in self._named() if named not in missing and named not in self.base.world.asked]
            missing += further
            if not further:
                break
        if not self._comes_to(outcome, missing):
            return None
        for name in list(missing):
            fewer = [other for other in missing if other != name]
            if fewer and self._comes_to(outcome, fewer):
                missing = fewer
        run = self._without(missing)
        places = tuple(self.place((name,), run) for name in missing)
        return Told(tuple(missing), self.compared(run, missing), self.place(missing, run), places)

    def _comes_to(self, outcome: Outcome, names: Sequence[str]) -> bool:
        comes = self.compared(self._without(names), names)
        return comes.outcome == outcome and not comes.doubt and comes.how != SAID

    def compared(self, run: Run, names: Sequence[str], base: Run | None = None) -> Comes:
        """What a run comes to beside another; that is the first one, if none is given."""
        depth = self.place(names, run).doubt
        # A version that is kept first may be looked at in a later step of an installer, whichever that is.
        depth += PHP in names and self.base.thorough
        setting = names[0].startswith(DIRECTIVE)
        return what_comes(run, base or self.base, depth, version=PHP in names, setting=setting)

    def place(self, names: Sequence[str], run: Run) -> Asked:
        """Where one of some things was asked for last, before something came of it."""
        new = run.new_beside(self.base)
        order = new[0][1].order if new else MAX_STEPS
        places = [place for name in names for place in run.world.asked.get(name) or self.asked.get(name) or ()]
        before = [place for place in places if place.order <= order] or places
        nowhere = Asked(0, self.program.nowhere, self.program.nowhere, 0)
        return max(before, key=lambda place: place.order, default=nowhere)


def _is_of_php(name: str) -> bool:
    return not is_of_host(name) and name not in TOOLS


def _is_program(name: str) -> bool:
    return name.endswith(OF_PROGRAM)
