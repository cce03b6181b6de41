"""What one application requires, as values."""

from datetime import date
from typing import Final, Protocol, TypeVar

import msgspec

from fundamentum.catalog import branch_key
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.versions import VersionRange

LEVELS: Final[tuple[Level, ...]] = ("required", "recommended")


class Need(Protocol):
    """One thing that an application requires.  Each kind of need has values of its own: :mod:`fundamentum.kinds`."""

    @property
    def key(self) -> NeedId:
        """How findings name it."""

    @property
    def level(self) -> Level:
        """How strongly it is needed."""


class PhpNeed(Value, frozen=True):
    """Which PHP it runs on."""

    versions: VersionRange = VersionRange()
    preferred: str | None = None
    """The branch to choose where several fit; ``8.3+``: or a later one."""
    level: Level = "required"

    @property
    def key(self) -> NeedId:
        return NeedId("php")


class Acceptance(Value, frozen=True):
    """A finding that somebody has decided to live with."""

    need: str
    reason: str
    by: str
    until: date | None = None
    """The last day on which it holds."""
    where: str = ""
    """``FILE:LINE``, for a person."""
    expired: bool = False
    """Whether that day has passed."""


AnyNeed = TypeVar("AnyNeed")


class Needs(Value, frozen=True):
    """Everything one application requires."""

    name: str
    version: str | None = None
    needs: tuple[Need, ...] = ()
    notes: dict[str, str] = msgspec.field(default_factory=dict)
    """Why a need exists, by its key."""
    accepted: tuple[Acceptance, ...] = ()
    """Findings that are accepted on record."""
    from_text: bool = False
    """Whether it was read out of a text, which tells what somebody has complained of so far."""
    after_installation: bool = False
    """Whether it is planned for the time after its installer has run."""

    @property
    def all(self) -> tuple[Need, ...]:
        """Every need, that of PHP itself first."""
        return self.needs if self.of(PhpNeed) else (PhpNeed(), *self.needs)

    def of(self, kind: type[AnyNeed]) -> tuple[AnyNeed, ...]:
        """The needs that are values of one kind."""
        return tuple(need for need in self.needs if isinstance(need, kind))

    @property
    def php(self) -> VersionRange:
        """The versions of PHP that it accepts."""
        return next((need.versions for need in self.of(PhpNeed)), VersionRange())

    @property
    def preferred(self) -> str | None:
        """The branch of PHP to choose where several fit; ``8.3+``: or a later one."""
        return next((need.preferred for need in self.of(PhpNeed)), None)

    def would_rather_have_another(self, branch: str) -> bool:
        """Whether another branch of PHP than this one is preferred."""
        if self.preferred is None or self.preferred == branch:
            return False
        least = self.preferred.removesuffix("+")
        return least == self.preferred or branch_key(branch) < branch_key(least)

    def holds(self, key: str) -> bool:
        """Whether there is such a need; one of several alternatives counts too."""
        return any(need.key.covers(key) for need in self.all)

    def acceptance(self, key: NeedId) -> Acceptance | None:
        """The acceptance of a need's finding; one that names one of several alternatives counts too."""
        return next((acceptance for acceptance in self.accepted if key.covers(acceptance.need)), None)

    def note(self, key: NeedId) -> str | None:
        """The note for a need; a note for one of several alternatives counts too."""
        own = self.notes.get(key)
        return own or next((note for named, note in self.notes.items() if key.covers(named)), None)
