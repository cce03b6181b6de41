"""Evidence numbers in text that others wrote."""

from typing import Final

from fundamentum.lazy_regex import lazy_regex

_NUMBER: Final = lazy_regex(r"[0-9]{1,18}")


def whole(text: str | None) -> int | None:
    """The number, if the text is nothing but up to 18 ASCII digits; ``²`` and the digits of other scripts are none."""
    return int(text) if text is not None and _NUMBER.fullmatch(text) else None


def clipped(digits: str, base: int = 10) -> int:
    """The number that many digits make; more than any machine counts with become the largest of 20 digits.

    ``int`` itself refuses numbers of more than 4,300 digits, and takes long for less.
    """
    kept = digits.lstrip("+-0") or "0"
    return int(digits, base) if len(kept) <= 64 else int(("-" if digits[:1] == "-" else "") + "9" * 20)
