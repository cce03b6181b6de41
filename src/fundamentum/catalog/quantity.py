"""Numbers and switches in ini values, read as PHP reads them (``zend_ini_parse_quantity``, ``zend_ini_parse_bool``)."""

import re
from typing import Final

import msgspec

from fundamentum.lazy_regex import lazy_regex

_FACTORS: Final = {"k": 2**10, "m": 2**20, "g": 2**30}
_DIGITS: Final = (
    (lazy_regex(r"0[xX]([0-9a-fA-F]+)"), 16),
    (lazy_regex(r"0[bB]([01]+)"), 2),
    (lazy_regex(r"0[oO]([0-7]+)"), 8),
    (lazy_regex(r"0([0-7]+)"), 8),
    (lazy_regex(r"([0-9]+)"), 10),
)
_BLANK: Final = " \t\n\r\v\f"


class Quantity(msgspec.Struct, frozen=True):
    """A number as PHP understands it, and what is odd about the way it was written."""

    number: int
    oddity: str | None = None


def quantity(text: str) -> Quantity:
    """The number PHP makes of ``text``: an optional sign, digits, and K, M or G as the very last character.

    Anything between the digits and that last character is ignored, which is seldom what was meant; the oddity
    says so.  Values are bytes for sizes, plain counts or seconds for the rest.
    """
    body = text.strip(_BLANK)
    if not body:
        return Quantity(0)
    sign = -1 if body[0] == "-" else 1
    digits = body[1:] if body[0] in "+-" else body
    for pattern, base in _DIGITS:
        if match := pattern.match(digits):
            number, rest = _number(match[1], base), digits[match.end() :]
            break
    else:
        return Quantity(0, f"'{text}' is no number: PHP reads it as 0")
    factor = _FACTORS.get(digits[-1].lower(), 1) if rest else 1
    value = _wrapped(sign * number * factor)
    if not rest.strip(_BLANK):
        return Quantity(value)
    if rest.strip(_BLANK) in ("k", "K", "m", "M", "g", "G"):
        return Quantity(value)
    return Quantity(value, f"'{text}' is not what it looks like: PHP reads it as {spelled(value)}")


def _number(digits: str, base: int) -> int:
    """``strtoul``: more than 64 bits hold is the most that they hold; ``int`` itself refuses thousands of digits."""
    return int(digits, base) if len(digits) <= 4000 else 2**64 - 1


def _wrapped(value: int) -> int:
    """Sixty-four bits, as on every system current PHP branches run on: too large a number wraps around."""
    return (value + 2**63) % 2**64 - 2**63


def spelled(value: int) -> str:
    """A number the way an ini file writes it: ``256M`` rather than 268435456."""
    for letter, factor in (("G", 2**30), ("M", 2**20), ("K", 2**10)):
        if value and value % factor == 0:
            return f"{value // factor}{letter}"
    return str(value)


def switch(text: str) -> bool:
    """Whether PHP takes the value for *on*."""
    if text.lower() in ("true", "yes", "on"):
        return True
    match = re.match(rf"[{_BLANK}]*[+-]?([0-9]+)", text)
    return bool(match and match[1].strip("0"))


_SECONDS: Final = {
    "ms": 0.001, "s": 1, "": 1, "m": 60, "mi": 60, "h": 3600, "d": 86400, "w": 604800, "M": 2592000, "y": 31536000
}  # fmt: skip


def span(text: str) -> float | None:
    """A length of time in seconds: ``90``, ``5m``, ``1h30m``, ``500ms``; None if it is none."""
    parts = re.findall(r"(\d+)\s*(ms|mi|[smhdwMy]?)", text)
    if not parts or "".join(f"{number}{unit}" for number, unit in parts) != re.sub(r"\s", "", text):
        return None
    return sum(int(number) * _SECONDS[unit] for number, unit in parts)


def size_in_words(size: float) -> str:
    """Bytes for a person."""
    for letter, factor in (("T", 2**40), ("G", 2**30), ("M", 2**20), ("K", 2**10)):
        if size >= factor:
            text = f"{size / factor:.1f}".removesuffix(".0")
            return f"{text}{letter}"
    return f"{int(size)} bytes"
