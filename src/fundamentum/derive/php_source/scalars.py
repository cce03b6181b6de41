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


def loosely_equal(one: Value, other: Value, *, strict: bool) -> bool:
    """Whether PHP takes two values for equal; ``strict``: by ``===``, but a list and a truth value by their truth."""
    if isinstance(one, bool) or isinstance(other, bool):
        if strict and (isinstance(one, (int, float, str)) and isinstance(other, (int, float, str))):
            return type(one) is type(other) and one == other
        return is_true(one) is is_true(other)
    if strict and isinstance(one, str) is not isinstance(other, str):
        return False
    if isinstance(one, list) or isinstance(other, list):
        return one == other
    return ordered(one, other) == 0 if not strict else one == other


def ordered(one: Value, other: Value) -> int:
    """Below zero where the first is less, above where it is more: numbers as such, texts letter by letter.

    ``ValueError`` for lists, and where versions of PHP differ: a text that is no number, and a number.
    """
    if isinstance(one, bool) or isinstance(other, bool):
        return int(is_true(one)) - int(is_true(other))
    if isinstance(one, list) or isinstance(other, list):
        raise ValueError
    by_letters = _order(as_text(one), as_text(other))
    if isinstance(one, str) and isinstance(other, str) and not (_numeric(one) and _numeric(other)):
        return by_letters
    by_number = _order(as_number(one), as_number(other))
    if by_number != by_letters and not (_numeric(one) and _numeric(other)):
        raise ValueError  # before PHP 8 by number, since then by letters
    return by_number


def _order(left: Any, right: Any) -> int:
    return int(left > right) - int(left < right)
