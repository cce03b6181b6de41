"""A line that asks for some things and only advises others, as one line for each level.

*gd, exif (optional), zip*; *gd, intl and optionally apcu*; *the intl extension is needed; apcu is optional*.
"""

import re
from collections.abc import Iterator
from typing import Final

import msgspec

from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line

MAX_LENGTH: Final = 2000
"""Characters of a line that is taken apart."""
_SOFT: Final = lazy_regex(r"\b(?:optional(?:ly)?|recommended|suggested)\b", re.I)
_SOFT_ITEM: Final = lazy_regex(r"\([^()\d]*\b(?:optional(?:ly)?|recommended|suggested)\b[^()\d]*\)\W*$", re.I)
"""Ends an entry that is only advised; with a number it is about versions."""
_APART: Final = lazy_regex(r"[,;](?![^()]*\))\s*(?:and\s+)?|\s+and\s+(?![^()]*\))", re.I)
_OR: Final = lazy_regex(r"\bor\b(?![^()]*\))|[|/](?![^()]*\))", re.I)
_HEAD: Final = lazy_regex(r"[^:;,]{0,80}(?::|\b(?:extensions|modules)\b:?)\s*", re.I)
"""What a list begins with: of what it is one."""
_HARD: Final = lazy_regex(r"\b(?:required|mandatory|requires?|needs?|must)\b\s*", re.I)
_TAIL: Final = lazy_regex(r"[,;]?\s*(?:\band\s+)?\(?\boptionally\b\)?[,:]?\s+(?=[^;.]*\w)", re.I)


def by_level(line: Line) -> Iterator[Line]:
    """The parts of a line of which each has one level; the line itself where all of it has."""
    if len(line.text) > MAX_LENGTH or not _SOFT.search(line.text):
        yield line
        return
    for text in _parts(line.text):
        yield msgspec.structs.replace(line, text=text)


def _parts(text: str) -> list[str]:
    clauses = [clause.strip() for clause in text.split(";") if clause.strip()]
    if len({_SOFT.search(clause) is not None for clause in clauses}) > 1:
        head = _head(text) if ":" in _head(text) else ""
        head = head or ("PHP extension: " if "extension" in clauses[0].lower() else "")
        rest = (clause if _head(clause) else f"{_softened(head, clause)}{clause}" for clause in clauses[1:])
        return [part for clause in (clauses[0], *rest) for part in _parts(clause)]
    if (tail := _TAIL.search(text)) and tail.start() > 0:
        return [text[: tail.start()], f"{_HARD.sub('', _head(text))}optionally {text[tail.end() :]}"]
    head = _head(text)
    entries = [entry.strip() for entry in _APART.split(text[len(head) :])]
    soft = [entry for entry in entries if _SOFT_ITEM.search(entry)]
    plain = len(entries) > 1 and not any(entry[:1].isdigit() for entry in entries) and not _OR.search(text)
    if not plain or not soft or len(soft) == len(entries) or _SOFT.search(head):
        return [text]
    return [
        f"{head}{', '.join(entry for entry in entries if entry not in soft)}",
        f"{_HARD.sub('', head)}{', '.join(soft)}",
    ]


def _softened(head: str, clause: str) -> str:
    """What a list begins with, without what asks for it where a clause only advises."""
    return _HARD.sub("", head) if _SOFT.search(clause) else head


def _head(text: str) -> str:
    match = _HEAD.match(text)
    return f"{match[0].rstrip()} " if match else ""
