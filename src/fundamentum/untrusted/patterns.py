"""Regular expressions of others' files, tried on short texts in bounded time."""

import re
import warnings
from collections.abc import Iterator
from functools import lru_cache
from typing import Final

MAX_PATTERN: Final = 500
MAX_TRIED: Final = 100
MAX_REPEATS: Final = 4
"""Repetitions without an end in one pattern: each multiplies the time that a text takes by its length."""


def search(pattern: str, text: str, *, any_case: bool = False) -> "re.Match[str] | bool | None":
    """The first match; False if there is none; None where the pattern is not understood, or might take too long."""
    found = _compiled(pattern, any_case) if len(text) <= MAX_TRIED else None
    return None if found is None else found.search(text) or False


@lru_cache(maxsize=1000)
def _compiled(pattern: str, any_case: bool) -> "re.Pattern[str] | None":
    if len(pattern) > MAX_PATTERN or _endless(pattern):
        return None
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # that a later Python may read it otherwise is nothing for the user
            return re.compile(pattern, re.IGNORECASE if any_case else 0)
    except (re.error, RecursionError, OverflowError):
        return None


def _endless(pattern: str) -> bool:
    """Whether it repeats what repeats itself, or is a choice; or repeats too much one behind the other."""
    repeats, inner, depth = 0, [False], 1
    for sign, following in _signs(pattern):
        if sign == "(":
            inner.append(False)
        elif sign == ")" and len(inner) > 1:
            varied = inner.pop()
            inner[-1] = inner[-1] or varied
            if varied and following in "*+{":
                return True
        elif sign == "|":
            inner[-1] = len(inner) > 1
        elif sign in "*+{":
            repeats += 1
            inner[-1] = True
        depth = max(depth, len(inner))
    return repeats > MAX_REPEATS or depth > 20


def _signs(pattern: str) -> Iterator[tuple[str, str]]:
    """Each sign that means something by itself, with the one behind it; what is escaped or in a class means itself."""
    for match in re.finditer(r"\\.|\[\^?\]?(?:\\.|[^\]\\])*\]|.", pattern, re.S):
        text = match[0]
        if len(text) == 1:
            yield text, pattern[match.end() : match.end() + 1] or " "
