"""Scheduled programs: *cron job: */5 * * * * php bin/collect.php*, *run bin/a.php every 15 minutes*."""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import Statement, level_of

_SCRIPT: Final = r"((?:[A-Za-z0-9_-]+/)*[A-Za-z0-9_-]+\.php|bin/[A-Za-z0-9_-]+)"
_CRON: Final = lazy_regex(
    rf"((?:[\d*][\d*/,-]*\s+){{4}}[\d*][\d*/,-]*)\s+(?:[a-z_][\w-]*\s+)??(?:cd\s+\S+\s*(?:&&|;)\s*)?(?:\S*php\S*\s+)?(?:-\S+\s+)*/?\S*?{_SCRIPT}"
)
_BY_NAME: Final = lazy_regex(
    r"((?:[\d*][\d*/,-]*\s+){4}[\d*][\d*/,-]*)\s+(?:[a-z_][\w-]*\s+)??(?:cd\s+\S+\s*(?:&&|;)\s*)?\S*php[\d.]*\s+(?:-\S+\s+)*"
    r"(?:/\S*/)?([a-z][\w-]{1,20})(?:\s|$)"
)
"""A script whose name has no ending: ``* * * * * cd /srv/app && php console tasks:run``"""
_EVERY: Final = lazy_regex(
    r"\b(?:every|once (?:an?|each)|each)\s+(\d+|two|five|ten|fifteen|twenty|thirty|sixty)?\s*"
    r"(minute|hour|day|night|week|month)s?\b|"
    r"\b(hourly|daily|nightly|weekly|monthly)\b",
    re.I,
)


_NUMBERS: Final = {"two": 2, "five": 5, "ten": 10, "fifteen": 15, "twenty": 20, "thirty": 30, "sixty": 60}
_TIMES: Final = {"week": "weekly", "month": "monthly", "night": "daily", "nightly": "daily"}
"""Words for what a needs file calls otherwise."""


def read(line: Line) -> Iterator[Statement]:
    """A script with the times at which it has to run."""
    level = level_of(line)
    if match := _CRON.search(line.text) or _BY_NAME.search(line.text):
        yield Statement(("tasks", level), " ".join(match[1].split()), _below(match[2]), level)
        return
    script, every = re.search(rf"(?<![\w.]){_SCRIPT}", line.text), _EVERY.search(line.text)
    if script and every:
        unit = {"minute": "m", "hour": "h", "day": "d"}.get((every[2] or "").lower(), "")
        word = (every[3] or every[2]).lower()
        number = _NUMBERS.get((every[1] or "").lower(), every[1] or 1)
        times = f"every {number}{unit}" if unit else _TIMES.get(word, word)
        yield Statement(("tasks", level), times, _below(script[1]), level)


def _below(path: str) -> str:
    """A script as its application has it: what stands in front of its own directory is the server's."""
    return "/".join(path.split("/")[-2:])
