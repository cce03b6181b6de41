"""Names of functions and classes that tell something, found by a pattern."""

import re
from collections.abc import Collection
from typing import Final

MAX_NAME: Final = 120
"""Characters; what is longer is no name that anybody gives."""
MAX_TRIED: Final = 500_000
"""Words that are remembered at a time."""


class TellingNames:
    """Which words a pattern fits.  A tree has few words and many places where they stand: each is tried once."""

    def __init__(self, pattern: re.Pattern[bytes]) -> None:
        self._pattern = pattern
        self._tried: set[bytes] = set()
        self._fitting: set[bytes] = set()

    def among(self, words: Collection[bytes]) -> frozenset[bytes]:
        """Those of the words that the pattern fits."""
        new = frozenset(word for word in words if len(word) < MAX_NAME) - self._tried
        if len(self._tried) > MAX_TRIED:
            self._tried.clear()
        self._tried |= new
        self._fitting.update(word for word in new if self._pattern.search(word))
        return frozenset(self._fitting.intersection(words))
