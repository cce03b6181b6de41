"""What a reader has understood in a line."""

import re
from typing import Final

import msgspec

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.needs_value import Level
from fundamentum.prose.line import Line


class Statement(msgspec.Struct, frozen=True):
    """One entry of a needs file."""

    table: tuple[str, ...]
    """Where it goes: ``extensions``; with ``{level}`` for the level."""
    value: str | int
    """The entry of a list, or what a key is set to."""
    key: str = ""
    """The key, where the table is one of names."""
    level: Level = "required"


ASKING: Final = lazy_regex(r"requir|optional|recommend|prerequisite|dependenc|needed|suggest", re.I)
"""Headings above what an application asks for."""
_HARD: Final = lazy_regex(
    r"\b(?:errors?|fail(?:ed|ure|s)?|missing|requires?d?|must|mandatory|cannot|can ?not|can't|critical|fatal|"
    r"unable|needs?|needed|"
    r"not (?:be )?(?:installed|found|loaded|enabled|available|writable|supported|present|defined|active|exist))\b"
    r"|undefined|❌|✗|✘",
    re.I,
)
_SOFT: Final = lazy_regex(
    r"\b(?:recommend(?:ed|s|ation)?|optional(?:ly)?|suggest(?:ed|s)?|advis(?:ed?|able)|should|ideally|preferabl[ye]|"
    r"nice to have|improves?|warning|notice|if (?:you|available|possible)|can be used)\b",
    re.I,
)
_ONLY_IF: Final = lazy_regex(
    r"\b(?:if|when) you(?:'d)? (?:want|wish|like|would like|plan|intend|use|are (?:using|planning|going))\b", re.I
)
"""What is for some alone, however it is asked for: *you need LDAP if you want to log in through a directory*."""
_LACKS_ADVISED: Final = lazy_regex(
    r"\b(?:missing|lack(?:s|ing)?)\b.{0,20}\b(?:recommended|optional|suggested)\b|"
    r"\brecommended to (?:install|enable)\b",
    re.I,
)
"""What is missing, and was only recommended: *is missing some recommended modules*."""
_NOT_REQUIRED: Final = lazy_regex(r"\bnot (?:strictly |absolutely )?(?:required|mandatory|needed|necessary)\b", re.I)
_DENIED: Final = lazy_regex(r"(?<!\w)(?:no|nein|non|optional)\W*$", re.I)


def level_of(line: Line) -> Level:
    """How strongly a line, or else its heading, asks for something."""
    if _denied(line):
        return "recommended"
    for text in (line.text, line.heading):
        if _NOT_REQUIRED.search(text) or _ONLY_IF.search(text) or _LACKS_ADVISED.search(text):
            return "recommended"
        soft, hard = _SOFT.search(text), _HARD.search(text)
        if soft and (not hard or text == line.heading):
            return "recommended"
        if hard:
            return "required"
    return "required"


def _denied(line: Line) -> bool:
    """Whether a row of a table says no below a column that asks whether something is required."""
    return line.listed and _DENIED.search(line.text) is not None and _HARD.search(line.heading) is not None


_INSTALLS: Final = lazy_regex(
    r"(?<![\w-])(?!(?:must|to|please|then|and|or|can|could|may|should|will|you|also|need|now|first|just|not|pecl)\s)"
    r"[a-z][a-z-]{1,15}\s+(?:-\S+\s+)*(?:install|add)\s+(?:-\S+\s+)*[a-z][a-z\d.+-]{1,60}(?:\s|$)"
)
_PACKAGE: Final = lazy_regex(r"(?<![\w-])(?:php[\d.]{0,4}-[a-z]|[a-z]{2,20}-server\b)")


def installs_packages(text: str) -> bool:
    """Whether it is a line of a shell that installs packages, whichever program does that: names are those of these."""
    return _INSTALLS.search(text) is not None and _PACKAGE.search(text) is not None


VERSION: Final = r"v?(\d{1,3}(?:\.\d{1,3}){0,3})(?:\.x)?"
LATER: Final = (
    r"(?:\s*(?:\+|\(?(?:or|and|&) (?:later|higher|newer|above|greater|better|up(?:wards)?|more recent)\)?|-?ish))"
)
GD_OR_MAGICK: Final = lazy_regex(
    r"\bGD2?(?: [\d.]+\+?)?\s*(?:or|/|\|)\s*(?:ImageMagick|Imagick)\b|"
    r"\b(?:ImageMagick|Imagick)(?: [\d.]+\+?)?\s*(?:or|/|\|)\s*(?:the )?GD2?\b",
    re.I,
)
"""The two extensions for images, of which one will do."""
