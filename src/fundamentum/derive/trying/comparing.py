"""How PHP compares and converts values of a program that is tried out."""

from collections.abc import Callable
from typing import Any, Final

from fundamentum.derive.php_source.scalars import as_number, as_text, orders
from fundamentum.derive.trying.values import UNKNOWN, Array, Unknown, alike, lifted, plain, truth

_PLAIN: Final = (int, float, str, Array)


def same(first: Any, second: Any) -> Any:
    """``===``"""
    if isinstance(first, Array) and isinstance(second, Array):
        if first.loose or second.loose:
            return (
                False if bool(first.items) is not bool(second.items) and not (first.loose and second.loose) else UNKNOWN
            )
        return _equal_items(first, second, same)
    return alike(first, second) and (first is second or first == second)


def equal(first: Any, second: Any) -> Any:
    """``==``"""
    if isinstance(first, (bool, type(None))) or isinstance(second, (bool, type(None))):
        if None in (first, second) and (isinstance(first, str) or isinstance(second, str)):
            return (first or "") == (second or "")
        left, other = truth(first), truth(second)
        return UNKNOWN if left is None or other is None else left is other
    if isinstance(first, Array) or isinstance(second, Array):
        if not (isinstance(first, Array) and isinstance(second, Array)):
            return False
        return UNKNOWN if first.loose or second.loose else _equal_items(first, second, equal)
    if isinstance(first, (int, float, str)) and isinstance(second, (int, float, str)):
        told = {order == 0 for order in orders(first, second)}
        return told.pop() if len(told) == 1 else UNKNOWN
    return first is second


def _equal_items(first: Array, second: Array, alike: Callable[[Any, Any], Any]) -> Any:
    if first.items.keys() != second.items.keys():
        return False
    told = [lifted(alike, value, second.items[key]) for key, value in first.items.items()]
    return False if False in told else UNKNOWN if any(isinstance(answer, Unknown) for answer in told) else True


def order(first: Any, second: Any) -> tuple[int, ...]:
    """Below zero where the first is less; several where versions of PHP differ."""
    if isinstance(first, Array) and isinstance(second, Array):
        if first.loose or second.loose:
            raise ValueError
        if len(first.items) != len(second.items):
            return (1 if len(first.items) > len(second.items) else -1,)
        return _order_of_members(first, second)
    return orders(plain(first) if first is not None else False, plain(second) if second is not None else False)


def _order_of_members(first: Array, second: Array) -> tuple[int, ...]:
    for key, value in first.items.items():
        if not isinstance(value, _PLAIN) or not isinstance(second.items.get(key), _PLAIN):
            raise ValueError
        told = order(value, second.items[key])
        if told != (0,):
            return told
    return (0,)


def number(value: Any) -> int | float:
    """The number that it is converted to."""
    if isinstance(value, Array):
        if value.loose and not value.items:
            raise ValueError
        return int(bool(value.items))
    return as_number(plain(value))


def written(value: Any) -> str:
    """The text that it is converted to."""
    return as_text(plain(value))
