"""One sentence of a text, with the heading above it."""

import re
from collections.abc import Iterator
from typing import Final

import msgspec

from fundamentum.lazy_regex import lazy_regex

MAX_LENGTH: Final = 600
OF_LEVELS: Final = lazy_regex(
    r"\W*(?:required|mandatory|needed|necessary|minimum|minimal|optional|recommended|suggested|additional)"
    r"(?: (?:ones|extensions|modules|packages|components))?\W*",
    re.I,
)
"""Headings that tell how much something is needed, and what only with the one above them."""
_SENTENCE: Final = lazy_regex(r"(?<=[.!?;])\s+(?=[A-Z(\"'])")


class Line(msgspec.Struct, frozen=True):
    """One sentence of a text."""

    text: str
    number: int
    """The line of the file, from 1 on."""
    heading: str = ""
    """The nearest heading above it."""
    listed: bool = False
    """Whether it is an entry of a list or a row of a table."""


def sentences(text: str, number: int, heading: str, listed: bool) -> Iterator[Line]:
    """The sentences of a paragraph that begins on a line."""
    for part in _SENTENCE.split(text):
        if part.strip():
            yield Line(part.strip()[:MAX_LENGTH], number, heading, listed)
