"""Findings: one need held against one runtime."""

from collections.abc import Sequence
from typing import Any, Final, Literal, Protocol

import msgspec

from fundamentum.model.conditions import Condition
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import Acceptance, Needs
from fundamentum.model.needs_value import Level
from fundamentum.model.origin import Origin, Overridden
from fundamentum.model.php import Runtime
from fundamentum.model.safe_text import PlainName
from fundamentum.model.survey import Survey

Verdict = Literal["met", "unmet", "unknown", "accepted"]
State = Literal["active", "awaiting-restart", "switched-off", "misfit", "installable", "other-branch", "unobtainable"]
"""From good to bad; the state decides the remedy."""


AGAIN: Final = "survey again with --for and this application"
"""The remedy where a survey was made without knowing what an application asks about."""


class Link(msgspec.Struct, frozen=True):
    """One limit on the way of a request."""

    of: str
    """What sets it: PHP, FPM, a web server, the disk."""
    name: str
    value: str
    """As it stands; empty where it is built in and has no words of its own."""
    shown: str
    amount: float | None
    """What it allows, in the need's unit; None: not known."""
    least: int
    """What it has to allow."""
    origin: Origin
    enough: bool | None
    remedy: str = ""
    state: State | None = None
    site: str | None = None
    to: str = ""
    """The value that would do, as the web server or the process manager writes it."""
    condition: Condition | None = None
    """What a directive of PHP has to be."""


class LinkedSite(msgspec.Struct, frozen=True):
    """A site that counts once there is a link to the file it is set up in."""

    site: str
    file: str
    link: str


class Switch(msgspec.Struct, frozen=True):
    """What has to be on in a web server so that it hands PHP to a runtime, rather than its source to visitors."""

    server: PlainName
    modules: tuple[str, ...] = ()
    """Modules to be switched on."""
    without: tuple[str, ...] = ()
    """Modules that cannot stay on beside them."""
    snippets: tuple[str, ...] = ()
    """Parts of the configuration to be switched on."""
    sites: tuple[LinkedSite, ...] = ()
    package: str | None = None
    """The package that brings the web server itself, where it is not there."""


class Demand(Protocol):
    """What a need asks of one thing on a server.  Those of all needs on one thing are joined, and become a change."""

    @property
    def key(self) -> object:
        """What is asked something of."""

    @property
    def lacking(self) -> bool:
        """Whether something has to change; False: it only must not become worse."""

    def joined(self, other: Any) -> Any:
        """This demand and another on the same thing as one that serves both."""

    def settled(self, label: str, survey: Survey, demands: Sequence[Any]) -> Any:
        """The change that meets it; None where there is none.

        ``label`` names the applications, for the names of files; ``beside`` are all demands that something lacks.
        """


class Remedy(Protocol):
    """A change, as far as a finding tells of it.  See :mod:`fundamentum.changes`."""

    @property
    def key(self) -> str:
        """What it changes."""

    @property
    def about(self) -> str:
        """What it is about, in a word or two."""


class Finding(msgspec.Struct, frozen=True):
    """What came out for one need."""

    need: NeedId
    level: Level
    verdict: Verdict
    state: State | None = None
    wanted: str | None = None
    found: str | None = None
    origin: Origin | None = None
    remedy: str | None = None
    overridden: tuple[Overridden, ...] = ()
    """Lines that set the value too but lost against a later one."""
    remark: str | None = None
    note: str | None = None
    """Why the application needs it, from the needs file."""
    subject: str | None = None
    """The extension or loader this is about, where the need leaves a choice."""
    package: str | None = None
    """The package that would supply it."""
    acceptance: Acceptance | None = None
    """Who accepted that it is not met, and why."""
    chain: tuple[Link, ...] = ()
    """The limits on the way, for needs that are about all of them together."""
    switch: Switch | None = None
    """What makes the web server hand PHP to the runtime."""
    demands: tuple[Demand, ...] = ()
    """What would meet it, before the demands of all needs are joined."""
    changes: tuple[Remedy, ...] = ()
    """What meets it, as a plan for the application does it."""
    then: str = ""
    """What has to be done once these are made: ``restart php8.2-fpm``."""

    @property
    def advice(self) -> str | None:
        """What to do about it, to the end."""
        return f"{self.remedy}, then {self.then}" if self.remedy and self.then else self.remedy


class Target(msgspec.Struct, frozen=True):
    """The runtime that is judged, and why that one."""

    runtime: Runtime
    reason: str
    present: bool = True
    """False: it is not installed yet, and judged as a fresh installation would be."""
    site: str | None = None
    """The site it was chosen by."""
    named: bool = False
    """Whether the user named it: that no site is handed to it is then a remark."""
    beside: str | None = None
    """The label of the runtime beside which a plan puts this one, a new pool, and from which it takes over a site."""
    own: bool = False
    """Whether a plan makes its pool for this application, so that values for it go into the pool's own file."""
    base: Runtime | None = None
    """The runtime as it is for all its sites, where ``runtime`` is as the judged site meets it."""
    part: str | None = None
    """The site, and the directory of it, whose configuration is judged, where not all of them meet the same."""
    wanted: bool = False
    """Whether it is asked for even if the application does not accept that version: to see what would happen."""


class Judgement(msgspec.Struct, frozen=True):
    """One application on one runtime."""

    needs: Needs
    target: Target
    findings: tuple[Finding, ...]
    command_line: "Judgement | None" = None
    """The same for the PHP of the command line, where the application has programs that are run at set times."""

    @property
    def satisfied(self) -> bool:
        """Whether every required need is met or accepted, on the command line too."""
        own = all(finding.verdict in ("met", "accepted") for finding in self.findings if finding.level == "required")
        return own and (self.command_line is None or self.command_line.satisfied)

    @property
    def all_findings(self) -> tuple[Finding, ...]:
        """Those about the command line too."""
        return self.findings + (self.command_line.findings if self.command_line else ())
