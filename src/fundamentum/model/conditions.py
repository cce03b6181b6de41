"""What a setting must be."""

import re
from collections.abc import Iterable
from typing import Final, Literal

from fundamentum.catalog import has_unlimited, is_sized, is_switch, is_unlimited, time_zones
from fundamentum.catalog.quantity import quantity, switch
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.needs_value import NotUnderstood, Value
from fundamentum.model.versions import COMPARISON, Operator, holds

FORMS: Final = '">= 256M", "on", "off", "set", "unset", "has WORD", "lacks WORD", "zone" or "= VALUE"'
"""How a condition is written, for messages."""
_WORD: Final = lazy_regex(r"(has|lacks)\s+([A-Za-z0-9_.:/\\~@+-]+)")
_BETWEEN: Final = lazy_regex(r"[\s,;]+")
"""What stands between the words of a list in a setting.  Source: ``zend_disable_functions`` in PHP, and others."""

LETTERS: Final = frozenset({"variables_order", "request_order"})
"""Settings that are a list of letters, with nothing between them.  Source: php.net, "Core php.ini directives"."""


class Condition(Value, frozen=True):
    """What a setting must be: comparisons that all hold, a switch, a list with or without a word, a time zone, any
    value at all, or none."""

    kind: Literal["compare", "switch", "set", "unset", "has", "lacks", "zone"]
    text: str
    comparisons: tuple[tuple[Operator, str], ...] = ()
    on: bool = False
    word: str = ""
    """What the list has to have, or must not."""

    def holds(self, name: str, value: str) -> bool:
        """Whether the effective value of the directive satisfies this.  *Unlimited* is the largest number."""
        if self.kind == "unset":
            return value == ""
        if self.kind == "set":
            return value != ""
        if self.kind == "zone":
            return value in time_zones()
        if self.kind in ("has", "lacks"):
            there, meant = set(_words(name, value.lower())), set(_words(name, self.word.lower()))
            return meant <= there if self.kind == "has" else there.isdisjoint(meant)
        if self.kind == "switch":
            return switch(value) is self.on
        return all(_compares(name, value, operator, wanted) for operator, wanted in self.comparisons)

    def proposal(self, name: str, value: str) -> str:
        """The value nearest to the present one that satisfies this, as an ini file writes it.

        The present one, where a person has to decide which.
        """
        if self.kind == "unset":
            return ""
        if self.kind in ("set", "zone"):
            return "UTC" if self.kind == "zone" else value
        if self.kind in ("has", "lacks"):
            meant = _words(name, self.word)
            others = [word for word in _words(name, value) if word.lower() not in _words(name, self.word.lower())]
            return _joined(name, [*others, *meant] if self.kind == "has" else others)
        if self.kind == "switch":
            return "On" if self.on else "Off"
        failing = [
            (operator, wanted) for operator, wanted in self.comparisons if not _compares(name, value, operator, wanted)
        ]
        for operator, wanted in failing or self.comparisons[:1]:
            number = quantity(wanted).number
            candidate = {">": str(number + 1), "<": str(number - 1)}.get(operator, wanted)
            if self.holds(name, candidate):
                return candidate
        for _, wanted in self.comparisons:
            if self.holds(name, wanted):
                return wanted
        return failing[0][1] if failing else value


def _is_number(text: str) -> bool:
    return bool(re.fullmatch(r"[+-]?\d+\s*[kKmMgG]?", text.strip()))


def _compares(name: str, value: str, operator: Operator, wanted: str) -> bool:
    if operator in ("=", "!=") and not (_is_number(value) and _is_number(wanted)):
        named_any_case = name.endswith(("charset", "encoding"))  # PHP looks these up so
        same = value.lower() == wanted.lower() if named_any_case else value == wanted
        return same if operator == "=" else not same
    size = float("inf") if is_unlimited(name, value) else quantity(value).number
    limit = float("inf") if is_unlimited(name, wanted) else quantity(wanted).number
    return holds(operator, (size,), (limit,))  # type: ignore[arg-type]


def _words(name: str, value: str) -> list[str]:
    """What the list in a setting holds."""
    return list(value) if name in LETTERS else [word for word in _BETWEEN.split(value) if word]


def _joined(name: str, words: Iterable[str]) -> str:
    return ("" if name in LETTERS else ",").join(words)


def condition(name: str, text: str) -> Condition:
    """One entry of a settings table, as :data:`FORMS` has them; a bare size or number is the least that will do."""
    body = text.strip()
    if not body.isprintable():
        raise NotUnderstood("a value has to stand on one line, without control characters")
    lowered = body.lower()
    if lowered in ("0", "1") and is_switch(name):
        lowered = "on" if lowered == "1" else "off"
    if lowered in ("on", "off"):
        return Condition("switch", lowered, on=lowered == "on")
    if lowered in ("set", "unset", "zone"):
        return Condition(lowered, lowered)  # type: ignore[arg-type]
    if match := _WORD.fullmatch(body):
        return Condition(match[1], f"{match[1]} {match[2]}", word=match[2])  # type: ignore[arg-type]
    if re.fullmatch(r"(has|lacks)\b.*", lowered):
        raise NotUnderstood(f"'{body}' is no condition; write one word of the list: \"lacks exec\"")
    if _is_number(body):
        return Condition("compare", f">= {body}", ((">=", _plausible(name, body)),))
    return _compared(name, body)


def _plausible(name: str, number: str) -> str:
    """A bare number, unless it would be a size in bytes that nobody means."""
    if is_sized(name) and number.isdigit() and 1 <= int(number) < 2048:
        raise NotUnderstood(f"'{number}' is {number} bytes: did you mean \"{number}M\"?")
    return number


def _compared(name: str, body: str) -> Condition:
    comparisons: list[tuple[Operator, str]] = []
    for part in body.split(",") if not body.startswith(("=", "!=")) else [body]:
        match = COMPARISON.fullmatch(part.strip())
        if part.strip() in (">", ">=", "<", "<="):
            raise NotUnderstood(f"'{part.strip()}' compares with nothing; write {FORMS}")
        if not match:
            near = f'did you mean "= {part.strip()}"?' if re.fullmatch(r"[\w./:-]+", part.strip()) else f"write {FORMS}"
            raise NotUnderstood(f"'{part.strip()}' is no condition; {near}")
        operator, wanted = match[1], match[2].strip()
        if operator not in ("=", "!=") and not _is_number(wanted):
            raise NotUnderstood(_no_number(wanted))
        comparisons.append((operator, wanted))  # type: ignore[arg-type]
    read = Condition(
        "compare", ", ".join(f"{operator} {wanted}" for operator, wanted in comparisons), tuple(comparisons)
    )
    if _impossible(name, read):
        raise NotUnderstood(f"'{body}' can never hold")
    return read


def _no_number(wanted: str) -> str:
    oddity = f" ({quantity(wanted).oddity})" if quantity(wanted).oddity else ""
    near = re.fullmatch(r"(\d+)\s*([kKmMgG])i?[bB]?", wanted)
    hint = f'did you mean "{near[1]}{near[2].upper()}"?' if near else "write digits and at most one of K, M, G"
    return f"'{wanted}' is no number PHP understands{oddity}; {hint}"


def _impossible(name: str, wanted: Condition, *others: Condition) -> bool:
    """Whether no value satisfies all of these.  Numbers are tried around every bound that is named."""
    conditions = (wanted, *others)
    candidates = ["", "0", "1", "-1" if has_unlimited(name) else "0", "UTC"]
    candidates += [_joined(name, [condition.word for condition in conditions if condition.kind == "has"])]
    for given in conditions:
        for _, text in given.comparisons:
            number = quantity(text).number
            candidates += [text, str(number), str(number + 1), str(number - 1)]
    return not any(all(condition.holds(name, candidate) for condition in conditions) for candidate in candidates)


def contradict(name: str, first: Condition, second: Condition) -> bool:
    """Whether second conditions on the same directive cannot hold together."""
    return _impossible(name, first, second)
