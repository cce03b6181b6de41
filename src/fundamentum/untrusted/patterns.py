"""Regular expressions of others' files, tried on short texts in bounded time."""

import math
import re
import warnings
from collections.abc import Iterator
from functools import lru_cache
from typing import Final

MAX_PATTERN: Final = 500
MAX_REPEATS: Final = 4
"""Repetitions in one pattern: each multiplies the time that a text takes by a part of its length."""
MAX_STEPS: Final = 1_000_000
"""Ways of taking a text that are tried: choices, and what may be left out, multiply them."""
MAX_DEPTH: Final = 20


def search(pattern: str, text: str, *, any_case: bool = False) -> "re.Match[str] | bool | None":
    """The first match; False if there is none; None where the pattern is not understood, or might take too long."""
    compiled, longest = _compiled(pattern, any_case)
    return None if compiled is None or len(text) > longest else compiled.search(text) or False


@lru_cache(maxsize=1000)
def _compiled(pattern: str, any_case: bool) -> "tuple[re.Pattern[str] | None, int]":
    """A pattern, and the length of texts on which it may be tried."""
    longest = _longest(pattern) if len(pattern) <= MAX_PATTERN else 0
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # that a later Python may read it otherwise is nothing for the user
            return re.compile(pattern, re.IGNORECASE if any_case else 0) if longest else None, longest
    except (re.error, RecursionError, OverflowError):
        return None, 0


def _longest(pattern: str) -> int:
    """The length of a text that a pattern looks through in bounded time.

    0 if it repeats what repeats itself, may be left out or is a choice; or repeats too much one behind the other.
    """
    repeats, ways, before = 0, 1, ""
    choices, varied = [1], [False]
    """For each group that is open, how many choices it has, and whether it takes texts of several lengths."""
    for sign, following in _signs(pattern):
        if sign == "(":
            choices.append(1)
            varied.append(False)
        elif sign == ")" and len(varied) > 1:
            ways *= choices.pop()
            inner = varied.pop()
            varied[-1] = varied[-1] or inner
            if inner and following in "*+{":
                return 0
        elif sign == "|":
            choices[-1] += 1
            varied[-1] = len(varied) > 1
        elif sign in "*+{" or (sign == "?" and before not in ("(", "*", "+", "}", "?")):
            repeats, ways = (repeats, ways * 2) if sign == "?" else (repeats + 1, ways)
            varied[-1] = True
        before = sign
        if repeats > MAX_REPEATS or ways > MAX_STEPS or len(varied) > MAX_DEPTH:
            return 0
    # From each place, a run of one letter is shared out among n repetitions in about length ** n / n! ways.
    return int((MAX_STEPS * math.factorial(repeats + 1) / ways) ** (1 / (repeats + 1)))


def _signs(pattern: str) -> Iterator[tuple[str, str]]:
    """Each sign that means something by itself, with the one behind it; what is escaped or in a class means itself."""
    for match in re.finditer(r"\\.|\[\^?\]?(?:\\.|[^\]\\])*\]|.", pattern, re.S):
        text = match[0]
        if len(text) == 1:
            yield text, pattern[match.end() : match.end() + 1] or " "
