"""The known word that is most like one that is not known, for error messages: loaded only where there is one."""

import difflib
from collections.abc import Iterable
from typing import Final

_NEAR: Final = 0.72
_NEAR_OF_FEW: Final = 0.65
"""How much alike two words have to be, from 0 to 1; less where one letter is a third of them."""


def near(word: str, known: Iterable[str]) -> str:
    """The one of the known words that is most like it; empty if none is."""
    by_lower = {name.lower(): name for name in known}
    least = _NEAR if len(word) > 4 else _NEAR_OF_FEW
    close = difflib.get_close_matches(word.lower(), by_lower, 1, least)
    return by_lower[close[0]] if close else ""


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """``; did you mean 'version'?``, or nothing."""
    nearest = near(word, known)
    return f"; did you mean '{nearest}'?" if nearest else ""
