"""Shell patterns of others' files, held against names in bounded time."""

import fnmatch
from typing import Final

MAX_PATTERN: Final = 1000
MAX_CLASSES: Final = 20
"""Brackets that begin a list of characters; where none ends it, the whole rest is looked through for the end."""


def fits(name: str, pattern: str) -> bool:
    """Whether a name fits a shell pattern, capital and small letters apart; a pattern without end fits no name."""
    if len(pattern) > MAX_PATTERN or pattern.count("[") > MAX_CLASSES:
        return False
    return fnmatch.fnmatchcase(name, pattern)
