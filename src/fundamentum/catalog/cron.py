"""How often a line of cron runs.  Source: crontab(5)."""

import itertools
import re
from collections.abc import Sequence
from typing import Final

from fundamentum.untrusted.numbers import whole

_NAMES: Final = {
    name: number
    for names in ("jan feb mar apr may jun jul aug sep oct nov dec", "sun mon tue wed thu fri sat")
    for number, name in enumerate(names.split(), 1 if "jan" in names else 0)
}


def interval(fields: Sequence[str]) -> int | None:
    """The longest time between two runs of a line's five fields, in seconds; None if they mean nothing."""
    ranges = ((0, 59), (0, 23), (1, 31), (1, 12), (0, 7))
    sets = [_values(field, low, high) for field, (low, high) in zip(fields, ranges, strict=True)]
    minutes, hours, days, months, weekdays = sets
    if not (minutes and hours and days and months and weekdays):
        return None
    at = sorted(60 * hour + minute for hour in hours for minute in minutes)
    within = max((b - a for a, b in itertools.pairwise(at)), default=0)
    over_night = at[0] + 1440 - at[-1]
    if len(months) < 12:
        return 86400 * 366
    if len(days) < 31:
        return 86400 * max(_gap(sorted(days), 31), 1)
    week = {day % 7 for day in weekdays}
    if len(week) < 7:
        return 86400 * _gap(sorted(week), 7)
    return 60 * max(within, over_night)


def _gap(points: list[int], around: int) -> int:
    return max(b - a for a, b in zip(points, [*points[1:], points[0] + around], strict=True))


def _values(field: str, low: int, high: int) -> set[int]:
    values: set[int] = set()
    for part in field.lower().split(","):
        match = re.fullmatch(r"(\*|[a-z0-9]+(?:-[a-z0-9]+)?)(?:/([0-9]{1,3}))?", part)
        if not match:
            return set()
        first, _, last = match[1].partition("-")
        numbers = [_NAMES.get(word, _number(word)) for word in (first, last) if word not in ("*", "")]
        if any(not low <= number <= high for number in numbers):
            return set()
        begin, end = (low, high) if first == "*" else (numbers[0], numbers[-1] if last or not match[2] else high)
        values |= {n for n in range(begin, end + 1, int(match[2] or 1) or 1) if low <= n <= high}
    return values


def _number(text: str) -> int:
    number = whole(text)
    return -1 if number is None else number
