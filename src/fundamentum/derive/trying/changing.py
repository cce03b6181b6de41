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


def change(machine: Machine, name: str, array: Array, given: Given) -> tuple[Array, Any]:
    """A list as a function of that name leaves it, and what the function returns."""
    if name in SORTING:
        return in_order(machine, name, array, given), True
    return CHANGING[name](array, given)


def _pushed(array: Array, given: Given) -> tuple[Array, Any]:
    for value in given.values[1:]:
        array = array.with_item(None, value)
    return array, UNKNOWN if array.loose else len(array.items)


def _unshifted(array: Array, given: Given) -> tuple[Array, Any]:
    values = [*given.values[1:], *array.values()]
    return Array(dict(enumerate(values)), loose=array.loose), UNKNOWN if array.loose else len(values)


def _shifted(array: Array, _: Given) -> tuple[Array, Any]:
    if not array.items:
        return array, _nothing(array, None)
    (_, first), *rest = array.items.items()
    listed = all(isinstance(key, int) for key in array.items)
    return Array(dict(enumerate(value for _, value in rest)) if listed else dict(rest), loose=array.loose), first


def _popped(array: Array, _: Given) -> tuple[Array, Any]:
    if not array.items:
        return array, _nothing(array, None)
    *rest, (_, last) = array.items.items()
    return Array(dict(rest), loose=array.loose), last


def _spliced(array: Array, given: Given) -> tuple[Array, Any]:
    values, start, length = array.values(), given.at(1), given.at(2)
    if array.loose or not isinstance(start, int) or not isinstance(length, int | None):
        return Array(loose=True), UNKNOWN
    start = slice(start, None).indices(len(values))[0]
    end = len(values) if length is None else start + length if length >= 0 else len(values) + length
    new = given.at(3)
    put = [] if len(given.values) < 4 else new.values() if isinstance(new, Array) else [new]
    return Array.of([*values[:start], *put, *values[end:]]), Array.of(values[start:end])


def _moved(to: Callable[[Array], int]) -> Changing:
    """A function that goes to another member, and returns it."""

    def change(array: Array, _: Given) -> tuple[Array, Any]:
        moved = array.at_member(to(array))
        return moved, _current(moved)

    return change


def _each(array: Array, given: Given) -> tuple[Array, Any]:
    if not 0 <= array.position < len(array.items):
        return array, _nothing(array, False)
    key, value = _key(array), _current(array)
    return array.at_member(array.position + 1), Array({1: value, "value": value, 0: key, "key": key})


def _nothing(array: Array, nothing: Any) -> Any:
    """What stands beyond the last member that is known."""
    return UNKNOWN if array.loose else nothing


def _current(array: Array) -> Any:
    values = array.values()
    return values[array.position] if 0 <= array.position < len(values) else _nothing(array, False)


def _key(array: Array) -> Any:
    keys = list(array.items)
    return keys[array.position] if 0 <= array.position < len(keys) else _nothing(array, None)


CHANGING: Final[dict[str, Changing]] = {
    "array_push": _pushed,
    "array_unshift": _unshifted,
    "array_shift": _shifted,
    "array_pop": _popped,
    "array_splice": _spliced,
    "reset": _moved(lambda array: 0),
    "end": _moved(lambda array: len(array.items) - 1),
    "next": _moved(lambda array: array.position + 1),
    "prev": _moved(lambda array: array.position - 1),
    "current": lambda array, _: (array, _current(array)),
    "pos": lambda array, _: (array, _current(array)),
    "key": lambda array, _: (array, _key(array)),
    "each": _each,
}
