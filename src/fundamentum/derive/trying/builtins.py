"""PHP's own functions, as far as programs look by them at what a server has: what they have in common.

Each is a function of the machine and of what it is given.
"""

from collections.abc import Callable
from typing import Any, Final

from fundamentum.derive.php_source.functions import FUNCTIONS
from fundamentum.derive.php_source.scalars import limited
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.values import UNKNOWN, Array, Loaded, Unknown, lifted, plain

Builtin = Callable[[Machine, Given], Any]
_OF_LISTS: Final = frozenset(
    "empty isset array_map array_filter array_values array_unique array_keys count sizeof in_array implode array_slice "
    "explode".split()
)
"""Functions that are known here in another way."""
BUILTINS: Final[dict[str, Builtin]] = {}
"""Name → function; ``->name``: a method of a collection."""


def named(*names: str) -> Callable[[Builtin], Builtin]:
    """Let a function stand for some of PHP's."""

    def taken(function: Builtin) -> Builtin:
        BUILTINS.update(dict.fromkeys(names, function))
        return function

    return taken


def builtin(name: str) -> Builtin | None:
    """A function of PHP's by its name; ``->name``: a method of a collection."""
    if (function := BUILTINS.get(name)) is not None:
        return function
    return of_scalars(FUNCTIONS[name]) if name in FUNCTIONS and name not in _OF_LISTS else None


def of_scalars(function: Callable[..., Any]) -> Builtin:
    """A function of scalars, or lists of them, that are known."""

    def called(*values: Any) -> Any:
        told = function(*map(simple, values))
        if told is None or isinstance(told, Unknown):
            return UNKNOWN
        return Array.of(told) if isinstance(told, list) else told

    return lambda _, given: lifted(called, *given.values)


def bounded(value: Any) -> Any:
    """A value; unknown where it grew beyond what programs reckon with."""
    plain_one = isinstance(value, (int, float, str)) and not isinstance(value, bool)
    return UNKNOWN if plain_one and limited(value) is None else value


def simple(value: Any) -> Any:
    """A scalar, or a list of scalars as Python's.  ``TypeError``, ``ValueError`` for anything else."""
    if isinstance(value, Array):
        if value.loose:
            raise ValueError
        return [plain(item) for item in value.values()]
    return plain(value)


def array(value: Any) -> Array:
    """A list.  ``TypeError`` for what is none."""
    if not isinstance(value, Array):
        raise TypeError
    return value


def of_array(function: Callable[..., Any]) -> Builtin:
    """A function of a list, and of what stands behind it."""

    def called(_: Machine, given: Given) -> Any:
        if isinstance(given.at(0), Loaded):
            return given.at(0)
        return lifted(lambda given_array, *others: function(array(given_array), *others), *given.values)

    return called
