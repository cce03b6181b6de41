"""Functions of PHP with which programs take a version apart and compare it, and what they come to."""

import fnmatch
import math
import re
from collections.abc import Callable, Mapping
from functools import cmp_to_key
from typing import Any, Final

from fundamentum.derive.php_source.scalars import Value, as_number, as_text, is_true, limited, loosely_equal, ordered

_PLAIN_PATTERN: Final = re.compile(r"([/#~!@%])\^?[\w\s.^$\\()\[\]|?*+:-]{1,60}\1[imsuD]*")
MAX_REPEATED: Final = 5
"""Repetitions in a pattern that is tried."""
MAX_SEARCHED: Final = 12
"""Characters of a text that are searched for a pattern: as long as a version."""
_FIELD: Final = re.compile(r"%(?:0?\d|\.?\d)?[dsufox]")
_VERSION_PART: Final = re.compile(r"\d+|[a-z]+|#")
_STAGES: Final = {"dev": 0, "alpha": 1, "a": 1, "beta": 2, "b": 2, "rc": 3, "c": 3, "#": 4, "pl": 5, "p": 5}
"""What stands behind the numbers of a version, in order; before all of them what is not known."""
MAX_PLACES: Final = 20
"""Behind the point."""


def version_order(first: str, second: str) -> int:
    """Below zero where the first version is older.

    Source: the manual's page on ``version_compare``: part by part; a version that goes on with a number is newer, one
    that goes on with ``dev``, ``alpha``, ``beta`` or ``RC`` older.
    """
    left, right = (_VERSION_PART.findall(version.lower()[:60]) for version in (first, second))
    for part, counterpart in zip(left, right, strict=False):
        order = _part_order(part, counterpart)
        if order:
            return order
    if len(left) == len(right):
        return 0
    longer = left[len(right) :] or right[len(left) :]
    newer = longer[0].isdigit() or _STAGES.get(longer[0], -1) > 4
    return 1 if (len(left) > len(right)) is newer else -1


def _part_order(first: str, second: str) -> int:
    if first.isdigit() and second.isdigit():
        return (int(first) > int(second)) - (int(first) < int(second))
    left, right = (_STAGES["#"] if part.isdigit() else _STAGES.get(part, -1) for part in (first, second))
    return (left > right) - (left < right)


_BY_SIGN: Final[Mapping[str, Callable[[int], bool]]] = {
    **dict.fromkeys(("<", "lt"), lambda order: order < 0),
    **dict.fromkeys(("<=", "le"), lambda order: order <= 0),
    **dict.fromkeys((">", "gt"), lambda order: order > 0),
    **dict.fromkeys((">=", "ge"), lambda order: order >= 0),
    **dict.fromkeys(("==", "=", "eq"), lambda order: order == 0),
    **dict.fromkeys(("!=", "<>", "ne"), lambda order: order != 0),
}


def _version_compare(first: Value, second: Value, sign: Value = None) -> Value:
    order = version_order(as_text(first), as_text(second))
    return order if sign is None else _BY_SIGN[as_text(sign).lower()](order)


def _substr(subject: Value, start: Value, length: Value = None) -> Value:
    written, first = as_text(subject), int(as_number(start))
    first = max(first + len(written), 0) if first < 0 else first
    return written[first:][: int(as_number(length)) if length is not None else None]


def _explode(sign: Value, subject: Value, most: Value = None) -> Value:
    return list(as_text(subject).split(as_text(sign), int(as_number(most)) - 1 if most is not None else -1))


def _as_field(kind: str, value: Value) -> int | float | str:
    if kind[-1] == "s":
        return as_text(value)
    return as_number(value) if kind[-1] == "f" else int(as_number(value))


def _sprintf(written: Value, *values: Value) -> Value:
    shape = as_text(written)
    if shape.count("%") != len(_FIELD.findall(shape)):
        return None
    kinds = _FIELD.findall(shape)
    told = [_as_field(kind, value) for kind, value in zip(kinds, values, strict=True)]
    return limited(shape % tuple(told))


def of_pattern(written: Value) -> re.Pattern[str]:
    """A plain pattern of PHP's.  ``ValueError`` for one that might take long."""
    shape = as_text(written)
    if not _PLAIN_PATTERN.fullmatch(shape) or sum(map(shape.count, "?*+")) > MAX_REPEATED:
        raise ValueError
    plain, _, flags = shape[1:].rpartition(shape[0])
    return re.compile(plain, re.IGNORECASE if "i" in flags else re.RegexFlag(0))


def _preg_match(pattern: Value, subject: Value) -> Value:
    return int(of_pattern(pattern).search(as_text(subject)[:MAX_SEARCHED]) is not None)


def _preg_replace(pattern: Value, new: Value, subject: Value) -> Value:
    written = re.sub(r"\$(?=\d)", r"\\", as_text(new))
    return limited(of_pattern(pattern).sub(written, as_text(subject)[:MAX_SEARCHED]))


def _found(place: int) -> Value:
    return place if place >= 0 else False


def _beginning(first: Value, second: Value, length: Value) -> Value:
    most = int(as_number(length))
    return ordered(as_text(first)[:most], as_text(second)[:most])


def _members(value: Value) -> list[Any]:
    if not isinstance(value, list):
        raise TypeError
    return value


def _count(value: Value) -> Value:
    return len(value) if isinstance(value, list) else int(is_true(value))


def _array_map(name: Value, values: Value) -> Value:
    function = FUNCTIONS[as_text(name)]
    return [function(value) for value in _members(values)]


def _filter_var(value: Value, *_: Value) -> Value:
    """Only as a truth value, which programs ask of switches."""
    return as_text(value).lower() in ("1", "true", "on", "yes")


def _letters(first: Value, second: Value) -> Value:
    return (as_text(first) > as_text(second)) - (as_text(first) < as_text(second))


def _naturally(first: Value, second: Value) -> Value:
    left, right = (
        [(not part.isdigit(), int(part) if part.isdigit() else part) for part in re.findall(r"\d+|\D+", as_text(value))]
        for value in (first, second)
    )
    return (left > right) - (left < right)


_SAME: Final = ("array_filter", "array_values", "array_unique", "array_keys")
"""Functions of which the result is as true as the list they are given; of keys nothing else is told."""
FUNCTIONS: Final[Mapping[str, Callable[..., Value]]] = {
    "version_compare": _version_compare,
    "explode": _explode,
    "implode": lambda sign, parts: limited(as_text(sign).join(map(as_text, _members(parts)))),
    "array_slice": lambda members, start, length: _members(members)[start:][:length],
    "array_map": _array_map,
    **dict.fromkeys(_SAME[:2], lambda values: values),
    **dict.fromkeys(_SAME[2:], lambda values: values if isinstance(values, bool) else None),
    "count": _count,
    "sizeof": _count,
    "in_array": lambda first, values, *_: any(loosely_equal(first, value, strict=False) for value in _members(values)),
    "max": lambda *values: max(values, key=cmp_to_key(ordered)),
    "min": lambda *values: min(values, key=cmp_to_key(ordered)),
    "boolval": is_true,
    "intval": lambda value: int(as_number(value)),
    "floatval": lambda value: float(as_number(value)),
    "doubleval": lambda value: float(as_number(value)),
    "strval": as_text,
    "intdiv": lambda first, second: int(as_number(first)) // int(as_number(second)),
    "floor": lambda value: float(math.floor(as_number(value))),
    "round": lambda value, places=0: float(round(as_number(value), max(-MAX_PLACES, min(places, MAX_PLACES)))),
    "substr": _substr,
    "strtok": lambda subject, signs: re.split(f"[{re.escape(as_text(signs))}]", as_text(subject))[0],
    "strtolower": lambda value: as_text(value).lower(),
    "strtoupper": lambda value: as_text(value).upper(),
    "filter_var": _filter_var,
    **dict.fromkeys(("strlen", "mb_strlen"), lambda value: len(as_text(value))),
    "trim": lambda value: as_text(value).strip(),
    "str_replace": lambda first, second, subject: limited(as_text(subject).replace(as_text(first), as_text(second))),
    "sprintf": _sprintf,
    "preg_match": _preg_match,
    "preg_replace": _preg_replace,
    "fnmatch": lambda shape, subject: fnmatch.fnmatchcase(as_text(subject)[:60], as_text(shape)[:20]),
    "strpos": lambda subject, part: _found(as_text(subject).find(as_text(part))),
    "str_starts_with": lambda subject, part: as_text(subject).startswith(as_text(part)),
    "strcmp": _letters,
    "strncmp": _beginning,
    "strnatcmp": _naturally,
    "strnatcasecmp": _naturally,
    "empty": lambda value: not is_true(value),
    "isset": lambda *_: True,
}
"""Name → what it comes to.  One that is given what PHP would not take may raise."""
