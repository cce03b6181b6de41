"""The machine: *at least 2 GB of RAM*, *10 GB of free disk space*, *HTTPS is required*, *locale de_DE.UTF-8*."""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import Statement, level_of

_AMOUNT: Final = r"(?<!\d)(\d{1,6}(?:\.\d{1,3})?)\s*([KMGT])i?B?"
_OF: Final = r"\s*(?:of )?(?:free |available )?"
_LEAST: Final = r"[\s:(]*(?:at least|>=|≥|minimum(?: of)?|of)?\s*"


def _of(before: str, after: str) -> re.Pattern[str]:
    """*2 GB of RAM*, and *RAM: at least 2 GB*."""
    return re.compile(rf"{_AMOUNT}{_OF}(?:{before})\b|\b(?:{after})\b{_LEAST}{_AMOUNT}", re.I)


_FACTS: Final = (
    ("memory", _of(r"RAM|memory(?! limit)", r"RAM|main memory|system memory")),
    ("swap", _of(r"swap", r"swap(?: space)?")),
    ("disk", _of(r"disk|hard disk|hard drive|storage", r"disk(?: space)?")),
)
_MAIL: Final = lazy_regex(
    r"\bsendmail\b.*\b(?:not found|missing|installed|required)|\bmail\(\) function\b|\bPHP mail\b", re.I
)
_TOLD: Final = lazy_regex(r"\bby default\b|\ba maximum of\b|\bup to\b", re.I)
"""What a sentence tells rather than asks for."""
_OF_ANOTHER: Final = lazy_regex(r"\bURL|self-signed|\b(?:MySQL|MariaDB|PostgreSQL|LDAP|SMTP|IMAP)\b")
"""Where a certificate is not the site's."""


def read(line: Line) -> Iterator[Statement]:
    """What a line asks of the machine beside PHP."""
    level, text = level_of(line), line.text
    for name, shape in _FACTS:
        if (match := shape.search(text)) and not _TOLD.search(text):
            number, unit = (match[1], match[2]) if match[1] else (match[3], match[4])
            yield Statement(("host", level), f">= {_whole(float(number), unit.upper())}", name, level)
    if match := re.search(r"\b(\d{1,4})\s*(?:CPU|processor|core)s?\b", text, re.I):
        yield Statement(("host", level), f">= {match[1]}", "processors", level)
    if re.search(r"\b(?:HTTPS|SSL certificate|TLS certificate)\b", text) and not _OF_ANOTHER.search(text):
        yield Statement(("host", level), "on", "https", level)
    locales = re.findall(r"\b[a-z]{2}_[A-Z]{2}(?:\.[Uu][Tt][Ff]-?8)?\b", text)
    if locales and re.search(r"locale", f"{text} {line.heading}", re.I):
        yield Statement(("host", level), ", ".join(dict.fromkeys(locales)), "locales", level)
    if _MAIL.search(text):
        yield Statement(("host", level), "set", "mail", level)


def _whole(number: float, unit: str) -> str:
    """A size as a needs file writes it: ``1.5G`` is ``1536M``."""
    if unit == "T":
        number, unit = number * 1024, "G"
    if number != int(number) and unit != "K":
        number, unit = number * 1024, {"G": "M", "M": "K"}[unit]
    return f"{int(number)}{unit}"
