"""What two values come to with an operator of PHP's between them."""

import math
import operator
from collections.abc import Callable
from typing import Any, Final

from fundamentum.derive.php_source.scalars import limited
from fundamentum.derive.trying.comparing import equal, number, order, same, written
from fundamentum.derive.trying.values import UNKNOWN, Array, Loaded, Unknown, lifted, truth

_BITS: Final[dict[str, Callable[[int, int], int]]] = {
    "&": operator.and_, "|": operator.or_, "^": operator.xor, "<<": operator.lshift, ">>": operator.rshift,
}  # fmt: skip
_ARITHMETIC: Final[dict[str, Callable[[int | float, int | float], int | float]]] = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
    "/": operator.truediv,
    "%": lambda first, second: int(math.fmod(first, second)),
    "**": lambda first, second: power(first, second),
}
ORDER: Final[dict[str, Callable[[int], bool]]] = {
    "<": lambda order: order < 0,
    "<=": lambda order: order <= 0,
    ">": lambda order: order > 0,
    ">=": lambda order: order >= 0,
}
MAX_SHIFT: Final = 62
MAX_EXPONENT: Final = 64


def power(base: float, exponent: float) -> int | float:
    """A number times itself.  ``ValueError`` where that is none, or one with which no program reckons."""
    if not 0 <= exponent <= MAX_EXPONENT or abs(base) > 1 << 64:
        raise ValueError
    told: int | float = base**exponent
    if isinstance(told, complex):
        raise ValueError
    return told


def _plus(first: Any, second: Any) -> Any:
    if isinstance(first, Array) and isinstance(second, Array):
        return Array({**second.items, **first.items}, loose=first.loose or second.loose)
    return limited(number(first) + number(second))


def _bits(sign: str, first: Any, second: Any) -> Any:
    left, right = int(number(first)), int(number(second))
    if sign in ("<<", ">>") and not 0 <= right <= MAX_SHIFT:
        raise ValueError
    return limited(_BITS[sign](left, right))


def _agreed(question: Callable[[int], bool], orders: tuple[int, ...]) -> Any:
    told = set(map(question, orders))
    return told.pop() if len(told) == 1 else UNKNOWN


def _with_others(first: Any, second: Any) -> Any:
    """A table, and what else is given: ``['bin' => 'convert'] + $options``."""
    known = first if isinstance(first, Array) else second
    if isinstance(known, Array) and any(operand is None or isinstance(operand, Unknown) for operand in (first, second)):
        return Array(known.items, loose=True)
    return lifted(_plus, first, second)


def joined_by(sign: str, first: Any, second: Any) -> Any:
    """Two values with an operator between them that looks at both."""
    if sign in ("===", "!=="):
        told = lifted(same, first, second)
        return told if isinstance(told, Unknown) else _told(told, sign == "===")
    if sign in ("==", "!=", "<>"):
        return _told(lifted(equal, first, second), sign == "==")
    if sign in ORDER:
        return lifted(lambda value, other: _agreed(ORDER[sign], order(value, other)), first, second)
    if sign == "<=>":
        return lifted(lambda value, other: order(value, other)[0], first, second)
    if sign == "." and (lists := [operand for operand in (first, second) if isinstance(operand, Loaded)]):
        return lists[0]  # the list of what is there, written as one text
    if sign == ".":
        return lifted(lambda value, other: limited(written(value) + written(other)), first, second)
    if sign == "+":
        return _with_others(first, second)
    if sign in _BITS:
        return lifted(lambda value, other: _bits(sign, value, other), first, second)
    if sign == "xor":
        left, other = truth(first), truth(second)
        return UNKNOWN if left is None or other is None else left is not other
    if (reckoned := _ARITHMETIC.get(sign)) is not None:
        return lifted(lambda value, other: limited(reckoned(number(value), number(other))), first, second)
    return UNKNOWN


def _told(value: Any, positive: bool) -> Any:
    return lifted(lambda operand: operand if isinstance(operand, Unknown) else operand is positive, value)
