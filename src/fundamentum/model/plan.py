"""A plan: what to change on a server, in which order, and why."""

from datetime import date

from fundamentum.model.actions import (
    Action,
    AddLine,
    AddLines,
    AddPool,
    Allow,
    Arrange,
    ChangeLine,
    Enable,
    Install,
    Manage,
    Reason,
    Restart,
    Schedule,
    Set,
    SwitchOn,
    Value,
    Widen,
)
from fundamentum.model.findings import Judgement
from fundamentum.model.need_id import NeedId
from fundamentum.model.value import Level


class Effect(Value, frozen=True):
    """What a plan changes for a site that it was not made for."""

    site: str
    """The site, and the part of it; the runtime, where no site is handed to it."""
    name: str
    """The directive, or ``extension NAME``."""
    before: str
    after: str


class Aside(Value, frozen=True):
    """A package that comes along, and why that deserves a look."""

    package: str
    why: str
    instead: str
    """The way to avoid it."""


class DropIn(Value, frozen=True):
    """A configuration file to be written, whole."""

    path: str
    content: str


class Edit(Value, frozen=True):
    """A change of an existing file, as a unified diff, where no drop-in file can do it."""

    path: str
    diff: str
    in_document_root: bool = False
    """Whether it stands among the application's own files, in a directory that may be somebody else's than root's."""


class Unresolved(Value, frozen=True):
    """A need that the plan leaves unmet, and why."""

    need: NeedId
    why: str
    application: str
    level: Level


class Row(Value, frozen=True):
    """One candidate in the comparison that is shown."""

    name: str
    installed: bool
    version: str | None
    supported_until: date | None
    maintained_by: str
    chosen_for: tuple[str, ...]
    required: int
    recommended: int
    installs: int
    removes: tuple[str, ...]
    """Packages that would be taken away."""
    sites: tuple[str, ...]
    """The sites that run on it today."""
    reason: str
    """Why it was taken, or what decided against it."""


class Decision(Value, frozen=True):
    """How the branches were chosen."""

    rows: tuple[Row, ...] = ()
    conflict: tuple[str, ...] = ()
    """The smallest set of needs that no single branch meets, in words; empty if one branch serves all."""
    apart: tuple[str, ...] = ()
    """Why an application on a branch it shares gets a pool of its own, in words."""


class Plan(Value, frozen=True):
    """The way from the server as surveyed to one that meets the needs."""

    server: str
    family: str
    before: tuple[Judgement, ...]
    after: tuple[Judgement, ...]
    """What a check finds once the plan has been carried out: the plan's own proof."""
    installs: tuple[Install, ...] = ()
    along: tuple[str, ...] = ()
    """Packages that come along as dependencies."""
    enables: tuple[Enable, ...] = ()
    settings: tuple[Set, ...] = ()
    files: tuple[DropIn, ...] = ()
    restarts: tuple[Restart, ...] = ()
    reasons: dict[str, tuple[Reason, ...]] = {}
    """Why, by :func:`key_of` the action."""
    sources: dict[str, str] = {}
    """Package → the repository it comes from."""
    versions: dict[str, str] = {}
    """Package → its version there."""
    unresolved: tuple[Unresolved, ...] = ()
    lines: tuple[AddLine, ...] = ()
    pools: tuple[AddPool, ...] = ()
    removes: tuple[str, ...] = ()
    """Packages that the package manager would take away."""
    asides: tuple[Aside, ...] = ()
    decision: Decision | None = None
    """How the branches were chosen; None where there was no choice."""
    repositories: tuple[str, ...] = ()
    """Package sources that are not configured on the server and have to be, for packages of this plan."""
    switch: str | None = None
    """The module stream that has to be switched on first."""
    edits: tuple[Edit, ...] = ()
    managed: tuple[Manage, ...] = ()
    widened: tuple[Widen, ...] = ()
    allowed: tuple[Allow, ...] = ()
    arranged: tuple[Arrange, ...] = ()
    scheduled: tuple[Schedule, ...] = ()
    switched: tuple[SwitchOn, ...] = ()
    relined: tuple[ChangeLine, ...] = ()
    opened: tuple[AddLines, ...] = ()
    others: tuple[Effect, ...] = ()
    """What it changes for sites that it was not made for."""

    def about(self, file: str) -> list[Action]:
        """What is done in one file."""
        settings: list[Action] = [one for one in self.settings if one.file == file]
        widened = [one for one in self.widened if one.spot and one.spot.file == file]
        managed = [one for one in self.managed if one.file == file]
        lines = [one for one in self.lines if one.file == file]
        settings += [one for one in self.relined if one.spot.file == file]
        settings += [one for one in self.opened if one.file == file]
        allowed = [one for one in self.allowed if one.file == file]
        return [*lines, *settings, *managed, *widened, *allowed, *(one for one in self.scheduled if one.file == file)]

    @property
    def complete(self) -> bool:
        """Whether nothing required is left unmet."""
        return not any(one.level == "required" for one in self.unresolved)

    @property
    def empty(self) -> bool:
        """Whether there is nothing to do."""
        changes = self.installs or self.enables or self.settings or self.pools or self.restarts or self.edits
        around = (
            self.managed
            or self.widened
            or self.allowed
            or self.arranged
            or self.scheduled
            or self.switched
            or self.opened
        )
        return not (changes or around or self.switch)
