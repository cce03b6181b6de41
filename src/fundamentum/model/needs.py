"""What one application requires, as values."""

from datetime import date
from typing import Final

import msgspec

from fundamentum.model.conditions import Condition
from fundamentum.model.need_id import NeedId
from fundamentum.model.surrounding_needs import (
    AroundNeed,
    CommandNeed,
    DatabaseNeed,
    DirectoryNeed,
    HostNeed,
    LimitNeed,
    TaskNeed,
)
from fundamentum.model.value import Level, Value
from fundamentum.model.versions import VersionRange

LEVELS: Final[tuple[Level, ...]] = ("required", "recommended")


class ExtensionNeed(Value, frozen=True):
    """One extension, or any one of several."""

    names: tuple[str, ...]
    level: Level

    @property
    def key(self) -> NeedId:
        """``extension:pdo_mysql|pdo_pgsql``, as findings name it."""
        return NeedId("extension:" + "|".join(self.names))


class SettingNeed(Value, frozen=True):
    """One directive and what it must be."""

    name: str
    condition: Condition
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId(f"setting:{self.name}")


class LoaderNeed(Value, frozen=True):
    """A loader for encoded code, by the name PHP lists it under."""

    name: str
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId(f"loader:{self.name}")


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


class Needs(Value, frozen=True):
    """Everything one application requires."""

    name: str
    version: str | None = None
    php: VersionRange = VersionRange()
    preferred: str | None = None
    extensions: tuple[ExtensionNeed, ...] = ()
    settings: tuple[SettingNeed, ...] = ()
    loaders: tuple[LoaderNeed, ...] = ()
    limits: tuple[LimitNeed, ...] = ()
    databases: tuple[DatabaseNeed, ...] = ()
    commands: tuple[CommandNeed, ...] = ()
    directories: tuple[DirectoryNeed, ...] = ()
    host: tuple[HostNeed, ...] = ()
    tasks: tuple[TaskNeed, ...] = ()
    notes: dict[str, str] = msgspec.field(default_factory=dict)
    """Why a need exists, by its key."""
    accepted: tuple[Acceptance, ...] = ()
    """Findings that are accepted on record."""

    @property
    def all(self) -> tuple[ExtensionNeed | LoaderNeed | SettingNeed | AroundNeed, ...]:
        """Every need but PHP itself."""
        return (*self.extensions, *self.loaders, *self.settings, *self.around)

    @property
    def around(self) -> tuple[AroundNeed, ...]:
        """Every need beside PHP's own extensions and settings."""
        return (*self.limits, *self.databases, *self.commands, *self.directories, *self.host, *self.tasks)

    def holds(self, key: str) -> bool:
        """Whether there is such a need; one of several alternatives counts too."""
        return key == "php" or any(need.key.covers(key) for need in self.all)

    def acceptance(self, key: NeedId) -> Acceptance | None:
        """The acceptance of a need's finding; one that names one of several alternatives counts too."""
        return next((acceptance for acceptance in self.accepted if key.covers(acceptance.need)), None)

    def note(self, key: NeedId) -> str | None:
        """The note for a need; a note for one of several alternatives counts too."""
        own = self.notes.get(key)
        return own or next((note for named, note in self.notes.items() if key.covers(named)), None)
