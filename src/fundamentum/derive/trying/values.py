"""Values of a program that is tried out: PHP's own, and those that are not known, or are one of a few."""

import itertools
import math
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, Final

if TYPE_CHECKING:
    from fundamentum.derive.trying.memory import Cell, Scope
    from fundamentum.derive.trying.parts import Part

MAX_MEMBERS: Final = 400
MAX_WEIGHT: Final = 5_000
"""Values in a list, with those in the lists that it holds: those that hold each other again and again have no end."""
MAX_CHOICES: Final = 4
MAX_MORE: Final = 20


class Unknown:
    """A value of which nothing is known.  (PHP's null is None.)"""

    def __repr__(self) -> str:
        return "?"


UNKNOWN: Final = Unknown()
_counted: Final = itertools.count(1)


def now() -> int:
    """A number that is larger each time: what is made is known by it, and what was begun."""
    return next(_counted)


class Text(str):
    """A text that stands in the program, with the place."""

    __slots__ = ("part",)

    part: "Part"

    @classmethod
    def at(cls, written: str, part: "Part") -> "Text":
        text = cls(written)
        text.part = part
        return text


class Array:
    """A list or table of PHP's; what changes one makes another."""

    __slots__ = ("items", "loose", "more", "position", "weight")

    def __init__(
        self,
        items: dict[Any, Any] | None = None,
        *,
        loose: bool = False,
        more: "Sequence[Any]" = (),
        position: int = 0,
        weight: int = -1,
    ) -> None:
        """``weight``: if that is known.  Of a list that is too heavy nothing is kept."""
        self.items: dict[Any, Any] = items if items is not None else {}
        self.weight = weight if weight >= 0 else _weight(self.items.values())
        """Values in it, with those in the lists that it holds."""
        if self.weight > MAX_WEIGHT:
            self.items, self.weight, loose, more = {}, 0, True, ()
        self.position = position
        """At which member the program stands (``next``, ``current``); it may be before the first or behind the last."""
        self.more = more
        """What it may have, too."""
        self.loose = loose or bool(more)
        """Whether it may have more members than are known."""

    @classmethod
    def of(cls, values: Iterable[Any]) -> "Array":
        """A list of values."""
        return cls(dict(enumerate(values)))

    def values(self) -> list[Any]:
        return list(self.items.values())

    def with_item(self, key: Any, value: Any) -> "Array":
        """The same with one member more; a key of None: behind the last."""
        if len(self.items) >= MAX_MEMBERS or isinstance(key, (Unknown, OneOf)):
            perhaps = [*self.more, value][-MAX_MORE:]
            return Array(self.items, loose=True, more=perhaps, position=self.position, weight=self.weight)
        items = dict(self.items)
        if key is None:
            key = max((item for item in items if isinstance(item, int)), default=-1) + 1
        at = as_key(key)
        weight = self.weight + _weight((value,)) if at not in items else -1
        items[at] = value
        return Array(items, loose=self.loose, more=self.more, position=self.position, weight=weight)

    def at_member(self, position: int) -> "Array":
        """The same, standing at another member."""
        return Array(self.items, loose=self.loose, more=self.more, position=position, weight=self.weight)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Array) and self.loose == other.loose and self.items == other.items

    def __hash__(self) -> int:
        return id(self)

    def __repr__(self) -> str:
        return f"{self.items}{'...' if self.loose else ''}"


def _weight(values: Iterable[Any]) -> int:
    """How many values these are, with those in the lists among them."""
    total = 0
    for value in values:
        total += 1
        if isinstance(value, Array):
            total += value.weight
        elif isinstance(value, OneOf):
            total += _weight(value.values)
    return total


class Loaded:
    """The list of what a server has: extensions, drivers of PDO, functions that are switched off."""

    __slots__ = ("absent", "flipped", "kind")

    def __init__(self, kind: str, *, flipped: bool = False, absent: bool = False) -> None:
        self.kind, self.flipped, self.absent = kind, flipped, absent

    def __repr__(self) -> str:
        return f"{'no ' if self.absent else ''}{self.kind} that is loaded"


class OneOf:
    """One of a few values."""

    __slots__ = ("values",)

    def __init__(self, values: list[Any]) -> None:
        self.values = values

    def __eq__(self, other: object) -> bool:
        return isinstance(other, OneOf) and self.values == other.values

    def __hash__(self) -> int:
        return id(self)

    def __repr__(self) -> str:
        return f"one of {self.values}"


class Instance:
    """An object of a class."""

    __slots__ = ("born", "kind", "made", "members")

    def __init__(self, kind: "Kind", *, made: bool) -> None:
        self.kind = kind
        self.members: Scope = {}
        self.born = now()
        self.made = made
        """Whether the program itself made it; else what was not seen to be set may be anything."""

    def __repr__(self) -> str:
        # Of whatever class extends it the object is on which a function is gone through: the function does the same.
        return f"object of {self.kind.name}" if self.made else "object"


class Kind:
    """A class of the program's: its own parts, and the class that it extends."""

    def __init__(self, name: str, part: "Part | None", base: "Kind | None", *, whole: bool) -> None:
        self.name, self.part, self.base = name, part, base
        self.whole = whole
        """Whether all that it extends and uses is known."""
        self.methods: dict[str, Part] = {}
        self.defaults: dict[str, Part | None] = {}
        self.constants: dict[str, Part] = {}
        self.cases: dict[str, Any] = {}
        self.statics: dict[str, Cell] = {}

    def line(self) -> "Iterator[Kind]":
        """It, and those that it extends."""
        kind: Kind | None = self
        while kind is not None:
            yield kind
            kind = kind.base


class Closure:
    """A function that is a value, with what it took along."""

    __slots__ = ("bound", "kind", "part", "this")

    def __init__(self, part: "Part", bound: "Scope", this: Any, kind: "Kind | None") -> None:
        self.part, self.bound, self.this, self.kind = part, bound, this, kind

    def __repr__(self) -> str:
        return f"function at {self.part.node.start_byte}"


class BoundMethod:
    """A method of an object, or of a class, as a value: ``[$this, 'check']``, ``$this->check(...)``"""

    __slots__ = ("name", "of")

    def __init__(self, of: Any, name: str) -> None:
        self.of, self.name = of, name

    def __repr__(self) -> str:
        return f"{self.of}->{self.name}"


def as_key(value: Any) -> Any:
    """The key that a value becomes: ``'1'`` and ``true`` are 1."""
    if isinstance(value, float):
        return int(value) if math.isfinite(value) else 0
    if isinstance(value, bool):
        return int(value)
    if value is None:
        return ""
    if isinstance(value, str):
        return int(value) if value.isdigit() and (value == "0" or value[0] != "0") and len(value) < 15 else value
    return value if isinstance(value, int) else None


def truth(value: Any) -> bool | None:
    """Whether PHP takes a value for true; None: that is not known."""
    if isinstance(value, Unknown):
        return None
    if isinstance(value, Array):
        return True if value.items else None if value.loose else False
    if isinstance(value, (Loaded, Instance, Closure, BoundMethod)):
        return True
    if isinstance(value, OneOf):
        told = {truth(member) for member in value.values}
        return told.pop() if len(told) == 1 else None
    return value not in (None, False, 0, "", "0", 0.0)


def joined(values: Iterable[Any]) -> Any:
    """What a value is that is one of some."""
    found: list[Any] = []
    for value in values:
        if isinstance(value, Unknown):
            return UNKNOWN
        for member in value.values if isinstance(value, OneOf) else [value]:
            if not any(member is known or (alike(member, known) and member == known) for known in found):
                found.append(member)
    if len(found) == 1:
        return found[0]
    if all(isinstance(each, Array) for each in found):
        return _joined_arrays(found)
    return OneOf(found) if len(found) <= MAX_CHOICES else UNKNOWN


def _joined_arrays(arrays: list[Array]) -> Array:
    """What is in each of them, and perhaps more."""
    common = [key for key in arrays[0].items if all(key in array.items for array in arrays)]
    items = {key: joined(array.items[key] for array in arrays) for key in common}
    perhaps = [value for array in arrays for key, value in array.items.items() if key not in items]
    perhaps += [value for array in arrays for value in array.more]
    return Array(items, loose=any(array.loose for array in arrays), more=perhaps[:MAX_MORE])


def alike(first: Any, second: Any) -> bool:
    """Whether two values are of one type."""
    return type(first) is type(second) or (isinstance(first, str) and isinstance(second, str))


def lifted(function: Callable[..., Any], *values: Any) -> Any:
    """A function of values; of one of a few, of each of them.  Unknown where one is, or where PHP would not take it."""
    for at, value in enumerate(values):
        if isinstance(value, Unknown):
            return UNKNOWN
        if isinstance(value, OneOf):
            return joined(lifted(function, *values[:at], member, *values[at + 1 :]) for member in value.values)
    try:
        return function(*values)
    except (ArithmeticError, LookupError, TypeError, ValueError, re.error):
        return UNKNOWN


def plain(value: Any) -> Any:
    """A scalar as ``scalars`` has it.  ``TypeError`` for what is none."""
    if value is None:
        return ""
    if isinstance(value, (bool, int, float, str)):
        return value
    raise TypeError
