"""One way into a program, gone through on one server."""

from collections.abc import Callable, Iterator
from typing import Any, Final

from fundamentum.derive.statements.outcomes import reported
from fundamentum.derive.trying.machine import MAX_STEPS, Seen
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.program import Program
from fundamentum.derive.trying.running import Running
from fundamentum.derive.trying.shapes import Shapes
from fundamentum.derive.trying.telling import TEXTS, leads_on, worse
from fundamentum.derive.trying.values import Array, Instance
from fundamentum.derive.trying.worlds import World

ENDS: Final = ("exits", "throws")
"""How a way ends that ends the program."""
ENOUGH: Final = "enough"
"""How a way ends that is too long to be gone through."""

MAX_WRITTEN: Final = 100_000
"""Values that are looked at by which two ways are told apart."""
Way = Callable[[Running], tuple[str, Any]]
"""A way into a program: what goes it, and how it ends."""


class Run:
    """One way gone through on one server."""

    def __init__(self, program: Program, way: Way, world: World) -> None:
        self.world = world
        machine = Running(program, world)
        self.end, self.value = way(machine)
        self.ended_at = machine.ended_at
        self.perhaps_ended = dict(reversed(machine.perhaps_ended))
        self.seen, self.handed, self.rows = machine.seen, machine.handed, machine.rows
        self.exempted, self.strange = machine.exempted, machine.strange
        shapes = Shapes()
        self.effects = {key: shapes.of(value) for key, value in _left_behind(machine)}
        """What the way leaves behind for others: kind and name → what its value looks like."""
        self.alone = machine.entry is not None
        """Whether it is a function that is gone through, and no whole file."""
        self.steps = machine.steps
        self.thorough = machine.most > MAX_STEPS
        """Whether it is there to look at what is required."""
        program.ledger.steps -= machine.steps
        program.gone_through.update(machine.closures)
        program.gone_through.update(code.root for code in map(program.code, machine.included) if code is not None)

    @property
    def begins(self) -> Part | None:
        """The first part that was come to."""
        return next(iter(self.seen), None)

    def signature(self) -> int:
        """The same for runs in which the program did the same, though its files were read anew."""
        seen = frozenset((part.file.path, part.node.start_byte, part.node.end_byte) for part in self.seen)
        return hash((seen, self.end, *self._written()))

    def _written(self) -> Iterator[str]:
        """What was handed on, as text; of very much the beginning."""
        left = MAX_WRITTEN
        for values in self.handed.values():
            left -= sum(value.weight if isinstance(value, Array) else 1 for value in values)
            yield repr(values) if left > 0 else str(len(values))

    @property
    def left_at(self) -> Part | None:
        """The ``return`` with which it ended."""
        returned = self.ended_at is not None and self.ended_at.type == "return_statement"
        return self.ended_at if returned else None

    def new_beside(self, base: "Run") -> list[tuple[Part, Seen]]:
        """The parts that are come to here, and not in another run, in order."""
        new = ((part, seen) for part, seen in self.seen.items() if part not in base.seen)
        return sorted(new, key=lambda seen: seen[1].order)

    def alike(self, base: "Run") -> bool:
        """Whether the program did the same in another run."""
        return self.seen.keys() == base.seen.keys() and self.end == base.end

    def leads_on_less(self, base: "Run") -> bool:
        """Whether another run led on to a next step where this one does not."""
        return any(leads_on(part) for part in base.seen if part not in self.seen)

    def worse_than(self, base: "Run") -> list[Part]:
        """The places where a result is handed on that is worse than in another run."""
        return [
            part
            for part, values in self.handed.items()
            if (before := base.handed.get(part, [])) != values and any(map(worse, values, before))
        ]

    def refuses(self) -> bool:
        """Whether the program seems not to run here: it ends, or tells why and leaves; not where it leads on."""
        if self.end in ENDS:
            return not any(map(leads_on, self.seen))
        texts = (part for part in self.seen if part.type in TEXTS)
        left = self.left_at is not None and self.left_at.function_above is None
        return left and any(reported(part.node, extension=False) == "reports" for part in texts)


def _left_behind(machine: Running) -> Iterator[tuple[tuple[str, str], Any]]:
    """What a way leaves behind for others: constants, what classes and the object have, what it wrote elsewhere."""
    yield from ((("constant", name), value) for name, value in machine.constants.items())
    for kind in filter(None, machine.kinds.values()):
        yield from ((("class", f"{kind.name}{name}"), cell.value) for name, cell in kind.statics.items())
    if isinstance(machine.of_entry, Instance):
        owner = machine.of_entry
        yield from ((("class", f"{owner.kind.name} {name}"), cell.value) for name, cell in owner.members.items())
    yield from ((("file", name), cell.value) for name, cell in machine.globals.items())
    yield from ((("given", name), cell.value) for name, cell in machine.references.items())
