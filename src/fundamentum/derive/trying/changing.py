"""PHP's functions that change the list which they are given, or go along it: each is an entry of ``CHANGING``."""

from collections.abc import Callable
from typing import Any, Final

from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.sorting import SORTING, in_order
from fundamentum.derive.trying.values import UNKNOWN, Array

ADDING: Final = frozenset({"array_push", "array_unshift"})
"""Those that make a list longer, whatever stood in it."""
Changing = Callable[[Array, Given], tuple[Array, Any]]
"""What the list becomes, and what the function returns."""


def change(machine: Machine, name: str, whole: Array, given: Given) -> tuple[Array, Any]:
    """A list as a function of that name leaves it, and what the function returns."""
    if name in SORTING:
        return in_order(machine, name, whole, given), True
    return CHANGING[name](whole, given)


def _pushed(whole: Array, given: Given) -> tuple[Array, Any]:
    for value in given.values[1:]:
        whole = whole.with_item(None, value)
    return whole, UNKNOWN if whole.loose else len(whole.items)


def _unshifted(whole: Array, given: Given) -> tuple[Array, Any]:
    values = [*given.values[1:], *whole.values()]
    return Array(dict(enumerate(values)), loose=whole.loose), UNKNOWN if whole.loose else len(values)


def _shifted(whole: Array, _: Given) -> tuple[Array, Any]:
    if not whole.items:
        return whole, _nothing(whole, None)
    (_, first), *rest = whole.items.items()
    listed = all(isinstance(key, int) for key in whole.items)
    return Array(dict(enumerate(value for _, value in rest)) if listed else dict(rest), loose=whole.loose), first


def _popped(whole: Array, _: Given) -> tuple[Array, Any]:
    if not whole.items:
        return whole, _nothing(whole, None)
    *rest, (_, last) = whole.items.items()
    return Array(dict(rest), loose=whole.loose), last


def _spliced(whole: Array, given: Given) -> tuple[Array, Any]:
    values, start, length = whole.values(), given.at(1), given.at(2)
    if whole.loose or not isinstance(start, int) or not isinstance(length, int | None):
        return Array(loose=True), UNKNOWN
    start = slice(start, None).indices(len(values))[0]
    end = len(values) if length is None else start + length if length >= 0 else len(values) + length
    new = given.at(3)
    put = [] if len(given.values) < 4 else new.values() if isinstance(new, Array) else [new]
    return Array.of([*values[:start], *put, *values[end:]]), Array.of(values[start:end])


def _moved(to: Callable[[Array], int]) -> Changing:
    """A function that goes to another member, and returns it."""

    def change(whole: Array, _: Given) -> tuple[Array, Any]:
        moved = whole.at_member(to(whole))
        return moved, _current(moved)

    return change


def _each(whole: Array, given: Given) -> tuple[Array, Any]:
    if not 0 <= whole.position < len(whole.items):
        return whole, _nothing(whole, False)
    key, value = _key(whole), _current(whole)
    return whole.at_member(whole.position + 1), Array({1: value, "value": value, 0: key, "key": key})


def _nothing(whole: Array, nothing: Any) -> Any:
    """What stands beyond the last member that is known."""
    return UNKNOWN if whole.loose else nothing


def _current(whole: Array) -> Any:
    values = whole.values()
    return values[whole.position] if 0 <= whole.position < len(values) else _nothing(whole, False)


def _key(whole: Array) -> Any:
    keys = list(whole.items)
    return keys[whole.position] if 0 <= whole.position < len(keys) else _nothing(whole, None)


CHANGING: Final[dict[str, Changing]] = {
    "array_push": _pushed,
    "array_unshift": _unshifted,
    "array_shift": _shifted,
    "array_pop": _popped,
    "array_splice": _spliced,
    "reset": _moved(lambda whole: 0),
    "end": _moved(lambda whole: len(whole.items) - 1),
    "next": _moved(lambda whole: whole.position + 1),
    "prev": _moved(lambda whole: whole.position - 1),
    "current": lambda whole, _: (whole, _current(whole)),
    "pos": lambda whole, _: (whole, _current(whole)),
    "key": lambda whole, _: (whole, _key(whole)),
    "each": _each,
}
