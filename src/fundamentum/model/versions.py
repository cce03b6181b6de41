"""Ranges of versions."""

import re
from typing import Final, Literal

from fundamentum.catalog import branch_key
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.needs_value import Value

Operator = Literal[">=", ">", "<=", "<", "=", "!="]

COMPARISON: Final = lazy_regex(r"(>=|<=|!=|>|<|=)\s*(.+)")

Comparison = tuple[Operator, tuple[int, ...]]


class VersionRange(Value, frozen=True):
    """Accepted versions: in one of the alternatives, every comparison must hold.  No alternatives: any version.

    Versions are compared as far as the comparison is written out: 8.4.7 satisfies ``<=8.4``, and not ``>8.4``.
    """

    alternatives: tuple[tuple[Comparison, ...], ...] = ()

    def accepts(self, version: str) -> bool:
        """Whether a full version such as ``8.2.30`` is accepted."""
        parts = numbers(version)
        return not self.alternatives or any(
            all(holds(operator, parts[: len(wanted)], wanted) for operator, wanted in comparisons)
            for comparisons in self.alternatives
        )

    def accepts_branch(self, branch: str) -> bool:
        """Whether some release of the branch is accepted."""
        major, minor = branch_key(branch)
        return self._possible((major, minor, 0), (major, minor, 999))

    def contradictory(self) -> bool:
        """Whether no version at all can be accepted."""
        return not self._possible((0,), (999,))

    def _possible(self, low: tuple[int, ...], high: tuple[int, ...]) -> bool:
        points = {low, high}
        for comparisons in self.alternatives:
            for _, wanted in comparisons:
                padded = (*wanted, 0, 0, 0)[:4]
                points |= {padded, (*padded[:3], padded[3] + 1), _before(padded)}
        return any(low <= p <= (*high, 999, 999) and self.accepts(".".join(map(str, p))) for p in points)

    def __str__(self) -> str:
        return (
            " | ".join(
                ", ".join(f"{operator}{'.'.join(map(str, wanted))}" for operator, wanted in comparisons)
                for comparisons in self.alternatives
            )
            or "any"
        )


def _before(version: tuple[int, ...]) -> tuple[int, ...]:
    """A version a little below, for finding out whether a range holds anything."""
    out = list(version)
    for at in range(len(out) - 1, -1, -1):
        if out[at] > 0:
            out[at] -= 1
            return (*out[: at + 1], *([998] * (len(out) - at - 1)))
    return tuple(out)


def numbers(version: str) -> tuple[int, ...]:
    """The numbers at the beginning of a version: ``8.2.30-1`` is 8, 2, 30."""
    match = re.match(r"\d+(?:\.\d+)*", version)
    return tuple(int(part) for part in match.group().split(".")) if match else ()


def holds(operator: str, version: tuple[int, ...], wanted: tuple[int, ...]) -> bool:
    length = max(len(version), len(wanted))
    padded, asked = (*version, *[0] * (length - len(version))), (*wanted, *[0] * (length - len(wanted)))
    return {
        ">=": padded >= asked,
        ">": padded > asked,
        "<=": padded <= asked,
        "<": padded < asked,
        "=": padded == asked,
        "!=": padded != asked,
    }[operator]
