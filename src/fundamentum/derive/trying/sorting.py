"""Functions of PHP's that put a list in order."""

from functools import cmp_to_key
from typing import Any, Final

from fundamentum.derive.trying.comparing import order
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.values import Array

SORTING: Final = frozenset("sort rsort asort arsort ksort krsort usort uasort uksort".split())
_RENUMBERING: Final = frozenset({"sort", "rsort", "usort"})
MAX_SORTED: Final = 40
"""Members of a list that is put in order; a longer one stays as it is."""


def in_order(machine: Machine, name: str, array: Array, given: Given) -> Array:
    """A list as a function leaves it; as it was where the order is not known."""
    if array.loose or len(array.items) > MAX_SORTED:
        return array

    def compared(entry: tuple[Any, Any], other: tuple[Any, Any]) -> int:
        place = 0 if name.lstrip("u")[0] == "k" else 1
        first, second = entry[place], other[place]
        if name[0] != "u":
            return order(first, second)[0]
        told = machine.call_value(given.at(1), Given.of(first, second))
        if not isinstance(told, int):
            raise TypeError
        return int(told)

    try:
        members = sorted(array.items.items(), key=cmp_to_key(compared), reverse="r" in name.removesuffix("rt"))
    except (TypeError, ValueError):
        return array
    values = (value for _, value in members)
    return Array.of(values) if name in _RENUMBERING else Array(dict(members))
