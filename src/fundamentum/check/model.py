"""Findings: one need held against one runtime."""

from typing import Literal

import msgspec

from fundamentum.needs.model import Acceptance, Level, Needs
from fundamentum.server.model import Runtime

Verdict = Literal["met", "unmet", "unknown", "accepted"]
State = Literal["active", "awaiting-restart", "switched-off", "misfit", "installable", "other-branch", "unobtainable"]
"""From good to bad; the state decides the remedy."""


class Finding(msgspec.Struct, frozen=True):
    """What came out for one need."""

    need: str
    level: Level
    verdict: Verdict
    state: State | None = None
    wanted: str | None = None
    found: str | None = None
    origin: str | None = None
    """``FILE:LINE`` or ``built-in``."""
    remedy: str | None = None
    overridden: tuple[str, ...] = ()
    """Places that set the value too but lost against a later one."""
    remark: str | None = None
    note: str | None = None
    """Why the application needs it, from the needs file."""
    subject: str | None = None
    """The extension or loader this is about, where the need leaves a choice."""
    package: str | None = None
    """The package that would supply it."""
    acceptance: Acceptance | None = None
    """Who accepted that it is not met, and why."""


class Target(msgspec.Struct, frozen=True):
    """The runtime that is judged, and why that one."""

    runtime: Runtime
    reason: str
    present: bool = True
    """False: it is not installed yet, and judged as a fresh installation would be."""
    wanted: bool = False
    """Whether it is asked for even if the application does not accept that version: to see what would happen."""


class Judgement(msgspec.Struct, frozen=True):
    """One application on one runtime."""

    needs: Needs
    target: Target
    findings: tuple[Finding, ...]

    @property
    def satisfied(self) -> bool:
        """Whether every required need is met or accepted."""
        return all(f.verdict in ("met", "accepted") for f in self.findings if f.level == "required")
