"""How often a timer of systemd goes off.  Source: systemd.timer(5), systemd.time(7)."""

import re
from typing import Final

from fundamentum.catalog.cron import interval
from fundamentum.lazy_regex import lazy_regex

PERIODIC: Final = {"minutely": 60, "hourly": 3600, "daily": 86400, "weekly": 604800, "monthly": 2678400}
_SPAN: Final = lazy_regex(r"([0-9]{1,9})\s*(h(?:ours?|r)?|min(?:utes?)?|m|s(?:ec(?:onds?)?)?|d(?:ays?)?)?", re.I)
_UNITS: Final = {"h": 3600, "m": 60, "s": 1, "d": 86400}
_AFTER: Final = lazy_regex(r"^[ \t]*OnUnit(?:Active|Inactive)Sec[ \t]*=[ \t]*(.+)$", re.M)
_CALENDAR: Final = lazy_regex(r"^[ \t]*OnCalendar[ \t]*=[ \t]*(\S.{0,99}?)[ \t\r]*$", re.M)
_PART: Final = r"[\d*/.,]{1,40}"
_AT: Final = lazy_regex(
    rf"(?:(?P<week>[a-z]{{3}}[a-z.,-]{{0,60}})(?:\s+|\Z))?(?:\*-(?P<month>{_PART})-(?P<day>{_PART})(?:\s+|\Z))?"
    rf"(?:(?P<hour>{_PART}):(?P<minute>{_PART})(?::{_PART})?)?"
)
"""``Mon..Fri *-*-* 03:15``: each of the three parts may be left out."""


def timer_interval(text: str) -> int | None:
    """The longest time between two runs, in seconds, of a timer's unit file; None: it is said in a way that is rare."""
    spans = [_SPAN.findall(after) for after in _AFTER.findall(text)]
    intervals = [sum(int(number) * _UNITS[(unit or "s")[0].lower()] for number, unit in span) for span in spans]
    intervals += [
        every for expression in _CALENDAR.findall(text) if (every := _of_calendar(expression.lower())) is not None
    ]
    return min(filter(None, intervals), default=None)


def _of_calendar(written: str) -> int | None:
    if written in PERIODIC:
        return PERIODIC[written]
    at = _AT.fullmatch(written)
    if at is None or not any(at.groups()):
        return None
    week = re.sub(r"([a-z]{3})[a-z]*", r"\1", at["week"] or "*")
    fields = (at["minute"] or "0", at["hour"] or "0", at["day"] or "*", at["month"] or "*", week)
    return interval([re.sub(r"\b0(?=\d)", "", field).replace("..", "-") for field in fields])
