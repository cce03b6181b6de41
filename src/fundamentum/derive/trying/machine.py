"""The state of a program that is tried out, and the ways on which it may go."""

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, Final, NamedTuple

from fundamentum.derive.php_source.nodes import Patience
from fundamentum.derive.trying.memory import Cell, Memory, Scope, Written
from fundamentum.derive.trying.parts import Code, Part
from fundamentum.derive.trying.values import UNKNOWN, Array, Instance, Kind, joined, now

if TYPE_CHECKING:
    from fundamentum.derive.trying.program import Program
    from fundamentum.derive.trying.worlds import World

MAX_STEPS: Final = 4_000
"""Steps that are gone on one way; of a file that looks at what is required three times as many."""
TICK: Final = 63
"""Steps, less one, after which the time is looked at."""
MAX_HANDED: Final = 60
MAX_CALLS: Final = 14
"""Functions that call each other."""


class Leave(Exception):
    """The program leaves what it is in."""

    rank = 0
    """Of several ways on which all leave, the one counts on which the program gets furthest."""

    def __init__(self, value: Any = None, part: Part | None = None) -> None:
        super().__init__()
        self.value, self.part = value, part


class Break(Leave):
    """Out of a loop; ``value``: out of how many."""


class Continue(Leave):
    """On to the next turn of a loop."""


class Goto(Leave):
    """To a label; ``value``: its name."""


class Return(Leave):
    """Out of a function, or a file that was included."""

    rank = 1


class Thrown(Leave):
    """By an exception."""

    rank = 2


class Exit(Leave):
    """Out of the program."""

    rank = 3


class Beyond(Leave):
    """Out of a file that was included and goes on for longer than it is followed."""


class Enough(Exception):
    """The program goes on for longer than it is followed."""


class Seen(NamedTuple):
    """How a part of the program was come to."""

    order: int
    doubt: int
    """On how many things that hangs which are not known."""


class Frame:
    """One function that is gone through, or the program's own code."""

    def __init__(self, code: Code, scope: Scope, unset: Any, *, part: Part | None = None) -> None:
        self.code, self.scope, self.part = code, scope, part
        self.unset = unset
        """What a variable is that nothing was given to."""
        self.this: Instance | None = None
        self.kind: Kind | None = None
        self.given: Given | None = None
        """What the function was called with."""
        self.returns: list[Any] = []
        """What it returns on ways that it may go."""
        self.yields: list[Any] | None = None
        self.thrown: list[tuple[Part, int]] = []
        """Where an exception may have been thrown that nothing has caught yet, and in how much doubt that is."""


class Machine:
    """What all layers of the machine share."""

    def __init__(self, program: "Program", world: "World") -> None:
        self.program, self.world = program, world
        self.memory = Memory()
        self.globals: Scope = {}
        self.frames: list[Frame] = []
        self.functions: dict[str, Part] = {}
        self.kinds: dict[str, Kind | None] = {}
        self.constants: dict[str, Any] = {}
        self.statics: dict[tuple[Part, str], Cell] = {}
        self.included: set[str] = set()
        self.seen: dict[Part, Seen] = {}
        self.perhaps_ended: list[tuple[Part, int]] = []
        """Where it may have ended, and in how much doubt that is."""
        self.handed: dict[Part, list[Any]] = {}
        """What was handed on to somebody else, at which place, in order."""
        self.rows: dict[Part, Any] = {}
        """What stands beside it in the same table; of several times, where it was a bad one."""
        self.exempted: list[Any] = []
        """Rows of tables of which the program asked something else, so that a bad result in them does not matter."""
        self.taken_from: dict[Cell, Array] = {}
        """The row of which a variable holds a member: ``[$label, $there, $must] = $row;``"""
        self.made: list[tuple[Part, Instance]] = []
        """Objects of the program's own classes, with the place where each is made."""
        self.closures: dict[Part, Any] = {}
        """Functions that are values, and were not called yet."""
        self.strange: dict[Part, frozenset[Part]] = {}
        """Calls of what is not known, and the functions around: whoever calls these may know."""
        self.doubt = 0
        self.steps, self.most = 0, MAX_STEPS
        self.within_file = 1 << 62
        """How many steps it may have gone when a file that is included has to be done."""

    @property
    def frame(self) -> Frame:
        return self.frames[-1]

    def step(self, part: Part) -> None:
        """One more part of the program has been come to."""
        self.steps += 1
        if self.steps & TICK == 0:
            Patience.tick()
            if self.steps > self.most:
                raise Enough
            if self.steps > self.within_file:
                raise Beyond(None, part)
        if part.calls:
            self.place = part
        known = self.seen.get(part)
        if known is None:
            self.seen[part] = Seen(self.steps, self.doubt)
        elif known.doubt > self.doubt:
            self.seen[part] = Seen(known.order, self.doubt)

    def called_unknown(self) -> None:
        """What is called here is not known."""
        around = frozenset(frame.part for frame in self.frames[-2:] if frame.part is not None)
        self.strange[self.place] = self.strange.get(self.place, frozenset()) | around

    def hand(self, part: Part | None, value: Any) -> None:
        """A result is handed on at a place, to somebody who is not known."""
        if part is not None and isinstance(value, (bool, str, int, Array)):
            told = self.handed.setdefault(part, [])
            if len(told) < MAX_HANDED:
                told.append(value)

    def fork(self, *ways: Callable[[], Any], doubt: int = 1) -> Any:
        """Go all of some ways, of which the program goes one that is not known; what they come to.

        ``doubt``: how much is in doubt on them, beside what was before.
        """
        values: list[Any] = []
        written: list[Written] = []
        left: list[tuple[Leave, Written]] = []
        self.doubt += doubt
        begun = now()
        try:
            for way in ways:
                mark = self.memory.mark()
                try:
                    values.append(way())
                    written.append(self.memory.undo(mark))
                except Leave as leave:
                    left.append((leave, self.memory.undo(mark)))
        finally:
            self.doubt -= doubt
        if not values:
            first = min((raised for raised, _ in left), key=lambda raised: raised.rank)
            self.memory.join([way for raised, way in left if raised.rank == first.rank], begun)
            raise type(first)(joined(raised.value for raised, _ in left if type(raised) is type(first)), first.part)
        for leaving, _ in left:
            self._perhaps_left(leaving, self.doubt + doubt)
        self.memory.join(written, begun)
        return joined(values)

    def _perhaps_left(self, leave: Leave, doubt: int) -> None:
        """The program may have left here, and may go on."""
        if isinstance(leave, Return):
            self.frame.returns.append(leave.value)
        elif isinstance(leave, Thrown) and leave.part is not None:
            self.frame.thrown.append((leave.part, doubt))
        elif isinstance(leave, Exit) and leave.part is not None:
            self.perhaps_ended.append((leave.part, doubt))

    def chosen(
        self, condition: bool | None, then: Callable[[], Any], otherwise: Callable[[], Any], doubt: int = 1
    ) -> Any:
        """Go one of two ways, or both where it is not known which."""
        if condition is None:
            return self.fork(then, otherwise, doubt=doubt)
        return then() if condition else otherwise()

    def evaluate(self, part: Part | None) -> Any:
        """What an expression comes to."""
        raise NotImplementedError

    def execute(self, part: Part) -> None:
        """Go through a statement."""
        raise NotImplementedError

    def call_part(self, function: Part, given: "Given", this: Any = None, kind: Kind | None = None) -> Any:
        """Go through a function of the program's."""
        raise NotImplementedError

    def call_method(self, of: Any, name: str, given: "Given", part: Part | None = None) -> Any:
        """Call a method of an object; of a list, one that collections have."""
        raise NotImplementedError

    def method(self, kind: Kind | None, name: str) -> tuple[Part | None, Kind | None]:
        """A method, and the class that has it."""
        raise NotImplementedError

    def call_value(self, function: Any, given: "Given") -> Any:
        """Call what is a function as a value."""
        raise NotImplementedError

    place: Part
    """Where the program calls something of PHP's."""
    entry: Part | None = None
    """The function that is gone through alone."""
    references: Scope = {}
    """What it is given to write to."""
    left_over = False
    """Whether what is called now was called by nobody."""

    def as_object(self, value: Any) -> Any:
        """A table as an object."""
        raise NotImplementedError

    def constant(self, name: str, part: Part) -> Any:
        """What a constant is: PHP's own, or the program's."""
        raise NotImplementedError

    def include(self, path: str, part: Part) -> Any:
        """Go through a file that another one includes; what it returns."""
        raise NotImplementedError

    def within(self, kind: Kind | None, part: Part) -> Any:
        """What an expression comes to in a class, or for itself, be it in another file."""
        raise NotImplementedError

    def kind_of(self, name: str) -> Kind | None:
        """The program's class of a name."""
        raise NotImplementedError


class Given(NamedTuple):
    """What a function is called with."""

    values: list[Any]
    named: dict[str, Any]
    cells: dict[int, Cell]
    """What holds a value, by its place: a function that takes a reference writes there."""
    whole: bool = True
    """Whether that is all, and not what a list held that is not known."""

    @classmethod
    def of(cls, *values: Any) -> "Given":
        return cls(list(values), {}, {})

    def at(self, place: int, name: str = "") -> Any:
        """One of them, or None; unknown where it may be any."""
        if place < len(self.values):
            return self.values[place]
        return self.named.get(name, None if self.whole else UNKNOWN)
