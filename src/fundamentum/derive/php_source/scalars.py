"""Values of PHP, and how PHP converts and compares them."""

import re
from typing import Any, Final

Value = bool | int | float | str | list[Any] | None
"""What an expression comes to; None: that is not known."""
MAX_TEXT: Final = 1000
MAX_NUMBER: Final = 1 << 62
_NUMBER: Final = re.compile(r"\s*[+-]?\d{1,15}(?:\.\d{0,15})?")


def is_true(value: Value) -> bool:
    """Whether PHP takes a value for true."""
    return value not in (None, False, 0, "", "0", [])


def as_number(value: Value) -> int | float:
    """The number that a value is converted to; a text by the digits at its beginning."""
    if isinstance(value, str):
        match = _NUMBER.match(value)
        value = (float if match and "." in match[0] else int)(match[0]) if match else 0
    if isinstance(value, list) or value is None:
        return int(is_true(value))
    return int(value) if isinstance(value, bool) else value


def as_text(value: Value) -> str:
    """The text that a value is converted to.  ``ValueError`` for a list."""
    if isinstance(value, list) or value is None:
        raise ValueError
    if isinstance(value, bool):
        return "1" if value else ""
    return f"{value:.14g}" if isinstance(value, float) else str(value)


def limited(value: str | float) -> Value:
    """A value, or None where it grew beyond what programs reckon with."""
    return value if (len(value) < MAX_TEXT if isinstance(value, str) else abs(value) < MAX_NUMBER) else None


def _numeric(value: Value) -> bool:
    return not isinstance(value, str) or _NUMBER.fullmatch(value) is not None


def loosely_equal(first: Value, second: Value, *, strict: bool) -> bool:
    """Whether PHP takes two values for equal; ``strict``: by ``===``, but a list and a truth value by their truth."""
    if isinstance(first, bool) or isinstance(second, bool):
        if strict and (isinstance(first, (int, float, str)) and isinstance(second, (int, float, str))):
            return type(first) is type(second) and first == second
        return is_true(first) is is_true(second)
    if strict and isinstance(first, str) is not isinstance(second, str):
        return False
    if isinstance(first, list) or isinstance(second, list):
        return first == second
    return ordered(first, second) == 0 if not strict else first == second


def ordered(first: Value, second: Value) -> int:
    """Below zero where the first is less, above where it is more: numbers as such, texts letter by letter.

    ``ValueError`` for lists, and where versions of PHP differ.
    """
    order, *others = orders(first, second)
    if others:
        raise ValueError
    return order


def orders(first: Value, second: Value) -> tuple[int, ...]:
    """The same in each version of PHP: they differ in a text that is no number, beside a number."""
    if isinstance(first, bool) or isinstance(second, bool):
        return (int(is_true(first)) - int(is_true(second)),)
    if isinstance(first, list) or isinstance(second, list):
        raise ValueError
    by_letters = _order(as_text(first), as_text(second))
    if isinstance(first, str) and isinstance(second, str) and not (_numeric(first) and _numeric(second)):
        return (by_letters,)
    by_number = _order(as_number(first), as_number(second))
    if by_number != by_letters and not (_numeric(first) and _numeric(second)):
        return by_number, by_letters  # before PHP 8 by number, since then by letters
    return (by_number,)


def _order(left: Any, right: Any) -> int:
    return int(left > right) - int(left < right)
