"""A plan: what to change on a server, in which order, and why."""

import hashlib
from collections.abc import Iterable
from datetime import date
from typing import TypeVar

import msgspec

from fundamentum.changes.base import Change
from fundamentum.changes.file_operations import EditFile, WriteFile
from fundamentum.changes.primitives import DECIDED
from fundamentum.changes.steps import Step
from fundamentum.model.findings import Judgement
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.promises import Proof
from fundamentum.model.reason import Reason

AnyChange = TypeVar("AnyChange")


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


class Upgrade(Value, frozen=True):
    """An installed package that is brought to another version."""

    package: str
    before: str
    after: str
    back: bool
    """Whether the version before can still be had, so that there is a way back."""


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


class Planned(Value, frozen=True):
    """One application of a plan, and how it fares once the plan has been carried out."""

    name: str
    version: str | None
    branch: str
    sapi: str
    pool: str | None
    runtime: str
    """The label of the runtime."""
    reason: str
    """Why that one."""
    needs: int
    met: int
    accepted: int
    satisfied: bool
    """Whether every required need is met or accepted."""


class Plan(Value, frozen=True):
    """The way from the server as surveyed to one that meets the needs."""

    server: str
    family: str
    applications: tuple[Planned, ...] = ()
    before: tuple[Judgement, ...] = ()
    after: tuple[Judgement, ...] = ()
    """What a check finds once the plan has been carried out: the plan's own proof.  A plan read from a file has neither
    these nor those before."""
    changes: tuple[Change, ...] = ()
    steps: tuple[Step, ...] = ()
    """The operations that carry the changes out, in order."""
    reasons: dict[str, tuple[Reason, ...]] = {}
    """Why, by the key of the change."""
    consequences: dict[str, str] = {}
    """What a person has to know or decide about a change, by its key."""
    words: dict[str, str] = {}
    """Each change in a line, by its key."""
    along: tuple[str, ...] = ()
    """Packages that come along as dependencies."""
    upgrades: tuple[Upgrade, ...] = ()
    """Those of all packages that are installed already, in another version."""
    fetch: int = 0
    """Bytes of packages to be fetched; 0 where that is not known."""
    space: int = 0
    """Bytes that new packages take on the disk."""
    removes: tuple[str, ...] = ()
    """Packages that the package manager would take away."""
    asides: tuple[Aside, ...] = ()
    sources: dict[str, str] = {}
    """Package → the repository it comes from."""
    unresolved: tuple[Unresolved, ...] = ()
    decision: Decision | None = None
    """How the branches were chosen; None where there was no choice."""
    others: tuple[Effect, ...] = ()
    """What it changes for sites that it was not made for."""

    hints: tuple[str, ...] = ()
    """What else an administrator should know, in sentences."""
    rests_on: dict[str, str] = {}
    """The files and users that it was made from, each with what it was: :mod:`fundamentum.model.file_mark`."""
    proofs: tuple[Proof, ...] = ()
    """What the server itself is asked afterwards."""

    @property
    def identity(self) -> str:
        """A name for exactly this plan: whom it is made for, and a digest of what it does and rests on."""
        what = [self.server, self.rests_on, [(type(step.operation).__name__, step.operation) for step in self.steps]]
        digest = hashlib.sha256(msgspec.json.encode(what, order="deterministic")).hexdigest()[:10]
        return "-".join([*dict.fromkeys(application.name for application in self.applications), digest])[-80:]

    def of(self, kind: type[AnyChange]) -> tuple[AnyChange, ...]:
        """The changes of one kind."""
        return tuple(change for change in self.changes if isinstance(change, kind))

    @property
    def files(self) -> tuple[WriteFile, ...]:
        """The files that it writes whole."""
        return tuple(step.operation for step in self.steps if isinstance(step.operation, WriteFile))

    @property
    def edits(self) -> tuple[EditFile, ...]:
        """The files in which it changes lines."""
        return tuple(step.operation for step in self.steps if isinstance(step.operation, EditFile))

    @property
    def complete(self) -> bool:
        """Whether nothing required is left unmet."""
        return not any(need.level == "required" for need in self.unresolved)

    @property
    def empty(self) -> bool:
        """Whether there is nothing to do."""
        return not self.steps

    def why(self, change: Change) -> tuple[Reason, ...]:
        """The reasons of one change."""
        return self.reasons.get(change.key, ())

    def told_at(self, step: Step) -> list[str]:
        """What a person has to know about the changes of a step; of one that is decided elsewhere, it is told there."""
        decided = {
            change.key for planned in self.steps if planned.operation.KIND in DECIDED for change in planned.changes
        }
        here = [change for change in step.changes if step.operation.KIND in DECIDED or change.key not in decided]
        return [words for change in here if (words := self.consequences.get(change.key))]

    def why_all(self, changes: Iterable[Change]) -> list[tuple[Change, Reason]]:
        """The reasons of several changes, each with its change."""
        return [(change, reason) for change in changes for reason in self.why(change)]
