"""What a setting must be."""

import re
from typing import Literal

from fundamentum.catalog import has_unlimited, is_unlimited
from fundamentum.catalog.quantity import quantity, switch
from fundamentum.model.needs_value import NotUnderstood, Value
from fundamentum.model.versions import COMPARISON, Operator, holds


class Condition(Value, frozen=True):
    """What a setting must be: comparisons that all hold, a switch, or not set at all."""

    kind: Literal["compare", "switch", "unset"]
    text: str
    comparisons: tuple[tuple[Operator, str], ...] = ()
    on: bool = False

    def holds(self, name: str, value: str) -> bool:
        """Whether the effective value of the directive satisfies this.  *Unlimited* is the largest number."""
        if self.kind == "unset":
            return value == ""
        if self.kind == "switch":
            return switch(value) is self.on
        return all(_compares(name, value, operator, wanted) for operator, wanted in self.comparisons)

    def proposal(self, name: str, value: str) -> str:
        """The value nearest to the present one that satisfies this, as an ini file writes it."""
        if self.kind == "unset":
            return ""
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
        same = value == wanted
        return same if operator == "=" else not same
    found = float("inf") if is_unlimited(name, value) else quantity(value).number
    limit = float("inf") if is_unlimited(name, wanted) else quantity(wanted).number
    return holds(operator, (found,), (limit,))  # type: ignore[arg-type]


def condition(name: str, text: str) -> Condition:
    """One entry of a settings table: ``>= 256M``, ``on``, ``off``, ``unset``, ``= UTC``."""
    body = text.strip()
    if not body.isprintable():
        raise NotUnderstood("a value has to stand on one line, without control characters")
    lowered = body.lower()
    if lowered in ("on", "off"):
        return Condition("switch", lowered, on=lowered == "on")
    if lowered == "unset":
        return Condition("unset", lowered)
    comparisons: list[tuple[Operator, str]] = []
    for part in body.split(",") if not body.startswith(("=", "!=")) else [body]:
        match = COMPARISON.fullmatch(part.strip())
        if not match:
            raise NotUnderstood(
                f'\'{part.strip()}\' is no condition; write ">= 256M", "on", "off", "unset" or "= VALUE"'
            )
        operator, wanted = match[1], match[2].strip()
        if operator not in ("=", "!=") and not _is_number(wanted):
            oddity = f" ({quantity(wanted).oddity})" if quantity(wanted).oddity else ""
            raise NotUnderstood(
                f"'{wanted}' is no number PHP understands{oddity}; write digits and at most one of K, M, G"
            )
        comparisons.append((operator, wanted))  # type: ignore[arg-type]
    found = Condition(
        "compare", ", ".join(f"{operator} {wanted}" for operator, wanted in comparisons), tuple(comparisons)
    )
    if _impossible(name, found):
        raise NotUnderstood(f"'{body}' can never hold")
    return found


def _impossible(name: str, wanted: Condition, *others: Condition) -> bool:
    """Whether no value satisfies all of these.  Numbers are tried around every bound that is named."""
    conditions = (wanted, *others)
    candidates = ["", "0", "1", "-1" if has_unlimited(name) else "0"]
    for one in conditions:
        for _, text in one.comparisons:
            number = quantity(text).number
            candidates += [text, str(number), str(number + 1), str(number - 1)]
    return not any(all(one.holds(name, candidate) for one in conditions) for candidate in candidates)


def contradict(name: str, one: Condition, two: Condition) -> bool:
    """Whether two conditions on the same directive cannot hold together."""
    return _impossible(name, one, two)
