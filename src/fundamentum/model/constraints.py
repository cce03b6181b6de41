"""Version constraints as a needs file and as ``composer.json`` write them, as ranges of versions.

A needs file compares versions as far as they are written out (``<=8.4`` holds for 8.4.7) and knows ``8.1+``; what
only a manifest writes means in a needs file what it means there.

The grammar: ``||`` or ``|`` between alternatives, blank or comma for *and*, comparisons, ``1.2.*``, ``1.2 - 1.4``,
``~1.2`` (up to the next of the last part but one), ``^1.2`` (up to the next first part that is not zero), stability
flags (``@beta``, ``-dev``), which say nothing about PHP.
"""

import re
from collections.abc import Iterable, Sequence
from typing import Final, NamedTuple

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.needs_value import NotUnderstood
from fundamentum.model.versions import Comparison, VersionRange, numbers

Version = tuple[int, int, int, int]

ZERO: Final[Version] = (0, 0, 0, 0)
ENDLESS: Final[Version] = (10**6, 0, 0, 0)
MAX_LENGTH: Final = 500
_NUMBERS: Final = r"v?(\d+|[xX*])(?:\.(\d+|[xX*]))?(?:\.(\d+|[xX*]))?(?:\.(\d+|[xX*]))?"
_SUFFIX: Final = r"(?:[-_.]?(?:stable|beta|b|RC|alpha|a|patch|pl|p|dev)(?:[.-]?\d+)*)*(?:[.-]?dev)?(?:\+[\w.-]+)?"
_ONE: Final = lazy_regex(rf"(\^|~|>=|<=|==|=|!=|<>|>|<)?\s*{_NUMBERS}{_SUFFIX}", re.I)
_HYPHEN: Final = lazy_regex(rf"{_NUMBERS}{_SUFFIX}\s+-\s+{_NUMBERS}{_SUFFIX}", re.I)
_COMPARED: Final = lazy_regex(r"(>=|<=|!=|==|>|<|=)\s*(\d+(?:\.\d+){0,3})")
_SEVERAL: Final = lazy_regex(rf"{_COMPARED.pattern}(?:(?:\s*,\s*|\s+){_COMPARED.pattern})*")
_AND_LATER: Final = lazy_regex(r"(\d+(?:\.\d+){0,3})\s*\+")
_BARE: Final = lazy_regex(r"v?\d+(?:\.\d+){0,3}")
_FLAG: Final = lazy_regex(r"@(?:stable|RC|beta|alpha|dev)\b|#[0-9a-f]+", re.I)


class Interval(NamedTuple):
    """Versions from ``low`` on (it included, unless ``above``) up to ``high`` (not included, unless ``closed``)."""

    low: Version
    above: bool
    high: Version
    closed: bool

    def meets(self, other: "Interval") -> "Interval | None":
        """What both hold."""
        low, above = max((self.low, self.above), (other.low, other.above))
        high, closed = min((self.high, self.closed), (other.high, other.closed))
        if low > high or (low == high and (above or not closed)):
            return None
        return Interval(low, above, high, closed)


EVERYTHING: Final = Interval(ZERO, False, ENDLESS, False)


def constraint(text: str) -> VersionRange:
    """The PHP versions that a constraint accepts."""
    return as_range(intervals(text))


def version_range(text: str) -> VersionRange:
    """``>=8.1, <8.5`` as a range; ``|`` separates alternatives: ``>=7.4, <8 | >=8.2``; ``^8.1`` and ``8.1+`` too."""
    if len(text) > MAX_LENGTH:
        raise NotUnderstood("the version constraint is longer than any sensible one")
    alternatives: list[tuple[Comparison, ...]] = []
    for part in map(str.strip, re.split(r"\|\|?", text)):
        if later := _AND_LATER.fullmatch(part):
            alternatives.append(((">=", numbers(later[1])),))
        elif _SEVERAL.fullmatch(part):
            comparisons = (
                (operator.replace("==", "="), numbers(version)) for operator, version in _COMPARED.findall(part)
            )
            alternatives.append(tuple(comparisons))
        elif _BARE.fullmatch(part):
            raise NotUnderstood(f'\'{part}\' may mean two things: did you mean ">={part}", or "={part}" and no other?')
        else:
            alternatives += _as_in_a_manifest(part)
    return VersionRange(tuple(alternatives))


def _as_in_a_manifest(text: str) -> tuple[tuple[Comparison, ...], ...]:
    """One alternative that no needs file would write: ``^8.1``, ``~8.1``, ``8.*``, ``8.1 - 8.3``."""
    try:
        if not re.search(r"\d", text):
            raise NotUnderstood("it names no version")
        return constraint(text).alternatives
    except NotUnderstood as error:
        raise NotUnderstood(f"'{text}' is no version comparison; write for example \">=8.1, <8.5\"") from error


def intervals(text: str) -> tuple[Interval, ...]:
    """A constraint as intervals that do not touch, lowest first."""
    if len(text) > MAX_LENGTH:
        raise NotUnderstood("the version constraint is longer than any sensible one")
    ranges: list[Interval] = []
    for part in re.split(r"\|\|?", _FLAG.sub("", text)):
        ranges += _all_of(part.strip())
    return united(ranges)


def united(ranges: Iterable[Interval]) -> tuple[Interval, ...]:
    """Intervals that overlap or touch become one."""
    out: list[Interval] = []
    for interval in sorted(ranges):
        if out and (
            interval.low < out[-1].high or (interval.low == out[-1].high and (out[-1].closed or not interval.above))
        ):
            high, closed = max((out[-1].high, out[-1].closed), (interval.high, interval.closed))
            out[-1] = Interval(out[-1].low, out[-1].above, high, closed)
        else:
            out.append(interval)
    return tuple(out)


def common(first: Sequence[Interval], second: Sequence[Interval]) -> tuple[Interval, ...]:
    """What both accept."""
    return united(both for a in first for b in second if (both := a.meets(b)))


def as_range(ranges: Sequence[Interval]) -> VersionRange:
    """The intervals as a needs file writes them."""
    if not ranges:
        raise NotUnderstood("no PHP version at all can satisfy the constraint")
    if tuple(ranges) == (EVERYTHING,):
        return VersionRange()
    return VersionRange(tuple(tuple(_comparisons(interval)) for interval in ranges))


def _all_of(text: str) -> tuple[Interval, ...]:
    if text in ("", "*"):
        return (EVERYTHING,)
    if hyphen := _HYPHEN.fullmatch(text):
        parts = hyphen.groups()
        high = _given(parts[4:])
        upper = _up(high, len(high) - 1) if len(high) < 3 else _padded(high)
        return common((EVERYTHING,), (Interval(_padded(_given(parts[:4])), False, upper, len(high) >= 3),))
    ranges: tuple[Interval, ...] = (EVERYTHING,)
    at = 0
    while at < len(text):
        blank = re.compile(r"[\s,]*").match(text, at)
        at = blank.end() if blank else at
        if at == len(text):
            break
        if branch := re.compile(r"dev-[\w./-]+|[\w.-]+-dev(?![\w.])", re.I).match(text, at):
            at = branch.end()  # a branch of development says nothing about a released PHP
            continue
        match = _ONE.match(text, at)
        if match is None or (match.end() < len(text) and text[match.end()] not in " ,\t"):
            raise NotUnderstood(f"'{text}' is no version constraint")
        ranges = common(ranges, _one(match[1] or "", match.groups()[1:5]))
        at = match.end()
    return ranges


def _one(operator: str, parts: Sequence[str | None]) -> tuple[Interval, ...]:
    given = _given(parts)
    if any(part in ("x", "X", "*") for part in parts if part) and operator in ("", "=", "==", "^", "~"):
        return (Interval(_padded(given), False, _up(given, len(given) - 1), False) if given else EVERYTHING,)
    version = _padded(given)
    match operator:
        case "^":
            at = next((i for i, part in enumerate(given) if part), len(given) - 1)
            return (Interval(version, False, _up(given, at), False),)
        case "~":
            return (Interval(version, False, _up(given, max(len(given) - 2, 0)), False),)
        case ">=":
            return (Interval(version, False, ENDLESS, False),)
        case ">":
            return (Interval(version, True, ENDLESS, False),)
        case "<":
            return (Interval(ZERO, False, version, False),) if version > ZERO else ()
        case "<=":
            return (Interval(ZERO, False, version, True),)
        case "!=" | "<>":
            below = (Interval(ZERO, False, version, False),) if version > ZERO else ()
            return (*below, Interval(version, True, ENDLESS, False))
        case _:
            return (Interval(version, False, version, True),)


def _given(parts: Sequence[str | None]) -> tuple[int, ...]:
    out: list[int] = []
    for part in parts:
        if not part or not part.isdigit():
            break
        out.append(min(int(part), 10**5))
    return tuple(out)


def _padded(given: Sequence[int]) -> Version:
    first, second, third, fourth = (*given, 0, 0, 0, 0)[:4]
    return first, second, third, fourth


def _up(given: Sequence[int], at: int) -> Version:
    """The version after all that begin with the given parts up to ``at``."""
    return _padded((*given[:at], given[at] + 1))


def _trimmed(version: Version, at_least: int) -> tuple[int, ...]:
    out = list(version)
    while len(out) > at_least and out[-1] == 0:
        out.pop()
    return tuple(out)


def _comparisons(interval: Interval) -> Iterable[Comparison]:
    if interval.low == interval.high:
        yield "=", _trimmed(interval.low, 3)
        return
    if interval.above:
        yield ">", _trimmed(interval.low, 3)
    elif interval.low > ZERO:
        yield ">=", _trimmed(interval.low, 2)
    if interval.closed:
        yield "<=", _trimmed(interval.high, 3)
    elif interval.high < ENDLESS:
        yield "<", _trimmed(interval.high, 1 if interval.high[1:] == (0, 0, 0) else 2)
    if interval.low == ZERO and not interval.above and interval.high == ENDLESS:
        yield ">=", (0,)
