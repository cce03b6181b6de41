"""What one application requires, as values."""

import re
from datetime import date
from typing import Final, Literal

import msgspec

from fundamentum.catalog import branch_key, has_unlimited, is_unlimited
from fundamentum.catalog.quantity import quantity, switch

Level = Literal["required", "recommended"]
LEVELS: Final[tuple[Level, ...]] = ("required", "recommended")
Operator = Literal[">=", ">", "<=", "<", "=", "!="]

_COMPARISON: Final = re.compile(r"(>=|<=|!=|>|<|=)\s*(.+)")
_VERSION: Final = re.compile(r"\d+(\.\d+){0,3}")


class NotUnderstood(ValueError):
    """A word of the needs file that means nothing; the message says what would."""


class Value(msgspec.Struct, frozen=True):
    """Base of the values here."""


Comparison = tuple[Operator, tuple[int, ...]]


class VersionRange(Value, frozen=True):
    """Accepted PHP versions: in one of the alternatives, every comparison must hold.  No alternatives: any version.

    Versions are compared as far as the comparison is written out: 8.4.7 satisfies ``<=8.4``, and not ``>8.4``.
    """

    alternatives: tuple[tuple[Comparison, ...], ...] = ()

    def accepts(self, version: str) -> bool:
        """Whether a full version such as ``8.2.30`` is accepted."""
        found = _numbers(version)
        return not self.alternatives or any(
            all(_holds(operator, found[: len(wanted)], wanted) for operator, wanted in comparisons)
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


def _numbers(version: str) -> tuple[int, ...]:
    match = re.match(r"\d+(?:\.\d+)*", version)
    return tuple(int(part) for part in match.group().split(".")) if match else ()


def _holds(operator: str, found: tuple[int, ...], wanted: tuple[int, ...]) -> bool:
    length = max(len(found), len(wanted))
    one, two = (*found, *[0] * (length - len(found))), (*wanted, *[0] * (length - len(wanted)))
    return {">=": one >= two, ">": one > two, "<=": one <= two, "<": one < two, "=": one == two, "!=": one != two}[
        operator
    ]


def version_range(text: str) -> VersionRange:
    """``>=8.1, <8.5`` as a range; ``|`` separates alternatives: ``>=7.4, <8 | >=8.2``."""
    return VersionRange(tuple(tuple(map(_comparison, part.split(","))) for part in text.split("|")))


def _comparison(text: str) -> Comparison:
    match = _COMPARISON.fullmatch(text.strip())
    if not match or not _VERSION.fullmatch(match[2].strip()):
        raise NotUnderstood(f"'{text.strip()}' is no version comparison; write for example \">=8.1, <8.5\"")
    return match[1], _numbers(match[2].strip())  # type: ignore[return-value]


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
    return _holds(operator, (found,), (limit,))  # type: ignore[arg-type]


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
        match = _COMPARISON.fullmatch(part.strip())
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


class ExtensionNeed(Value, frozen=True):
    """One extension, or any one of several."""

    names: tuple[str, ...]
    level: Level

    @property
    def key(self) -> str:
        """``extension:pdo_mysql|pdo_pgsql``, as findings name it."""
        return "extension:" + "|".join(self.names)


class SettingNeed(Value, frozen=True):
    """One directive and what it must be."""

    name: str
    condition: Condition
    level: Level

    @property
    def key(self) -> str:
        return f"setting:{self.name}"


class LoaderNeed(Value, frozen=True):
    """A loader for encoded code, by the name PHP lists it under."""

    name: str
    level: Level

    @property
    def key(self) -> str:
        return f"loader:{self.name}"


class Acceptance(Value, frozen=True):
    """A finding that somebody has decided to live with."""

    need: str
    reason: str
    by: str
    until: date | None = None
    """The last day on which it holds."""
    where: str = ""
    """``FILE:LINE``."""

    def holds(self, today: date) -> bool:
        """Whether it has not expired."""
        return self.until is None or today <= self.until


class Needs(Value, frozen=True):
    """Everything one application requires."""

    name: str
    version: str | None = None
    php: VersionRange = VersionRange()
    preferred: str | None = None
    extensions: tuple[ExtensionNeed, ...] = ()
    settings: tuple[SettingNeed, ...] = ()
    loaders: tuple[LoaderNeed, ...] = ()
    notes: dict[str, str] = {}
    """Why a need exists, by its key."""
    accepted: tuple[Acceptance, ...] = ()
    """Findings that are accepted on record."""

    @property
    def all(self) -> tuple[ExtensionNeed | LoaderNeed | SettingNeed, ...]:
        """Every need but PHP itself."""
        return (*self.extensions, *self.loaders, *self.settings)

    def holds(self, key: str) -> bool:
        """Whether there is such a need; one of several alternatives counts too."""
        kind, _, name = key.partition(":")
        return key == "php" or any(
            need.key == key or (need.key.startswith(f"{kind}:") and name in need.key.partition(":")[2].split("|"))
            for need in self.all
        )

    def acceptance(self, key: str) -> Acceptance | None:
        """The acceptance of a need's finding; one that names one of several alternatives counts too."""
        kind, _, names = key.partition(":")
        keys = {key, *(f"{kind}:{name}" for name in names.split("|"))} if names else {key}
        return next((one for one in self.accepted if one.need in keys), None)

    def note(self, key: str) -> str | None:
        """The note for a need; a note for one of several alternatives counts too."""
        if key in self.notes:
            return self.notes[key]
        kind, _, names = key.partition(":")
        return next((self.notes[f"{kind}:{n}"] for n in names.split("|") if f"{kind}:{n}" in self.notes), None)
