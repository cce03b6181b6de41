"""A plan: what to change on a server, in which order, and why."""

from datetime import date

import msgspec

from fundamentum.check.model import Judgement
from fundamentum.needs.model import Level


class Value(msgspec.Struct, frozen=True):
    """Base of the values of a plan."""


class Reason(Value, frozen=True):
    """The need that a change serves."""

    application: str
    need: str
    level: Level
    note: str | None = None

    def __str__(self) -> str:
        kind, _, name = self.need.partition(":")
        what = f"{kind} {name.replace('|', ' or ')}" if name else "PHP itself"
        return f"{self.application}: {what}, {self.level}" + (f" ({self.note})" if self.note else "")


class Install(Value, frozen=True):
    """Install a package."""

    package: str
    again: bool = False
    """Whether it is installed already, but its files are not what they should be."""


class Enable(Value, frozen=True):
    """Switch on an extension whose file is there, for one way of running one branch."""

    extension: str
    switch: str
    """The name of its file under ``mods-available``, without the ending."""
    branch: str
    sapi: str


class AddLine(Value, frozen=True):
    """Load an extension whose file is there, by a line of its own: nothing here switches extensions on by name."""

    extension: str
    line: str
    file: str
    """A file of the scan directory, or the php.ini itself where there is no such directory."""
    runtime: str


class Set(Value, frozen=True):
    """Give a directive another value, in a file of its own that is read after those that set it now."""

    name: str
    before: str | None
    after: str
    file: str
    runtime: str
    pool: str | None = None
    """The pool, where only a pool's own configuration can win."""


class AddPool(Value, frozen=True):
    """Run an application in a pool of its own, so that its limits are its own."""

    name: str
    like: str
    """The runtime whose branch it runs on."""
    runtime: str
    """The label of the new one."""
    user: str
    listen: str
    file: str


class Restart(Value, frozen=True):
    """Restart a service."""

    service: str


Action = Install | Enable | AddLine | Set | AddPool | Restart


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


class Unresolved(Value, frozen=True):
    """A need that the plan leaves unmet, and why."""

    need: str
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

    @property
    def complete(self) -> bool:
        """Whether nothing required is left unmet."""
        return not any(one.level == "required" for one in self.unresolved)

    @property
    def empty(self) -> bool:
        """Whether there is nothing to do."""
        changes = self.installs or self.enables or self.settings or self.pools or self.restarts or self.edits
        return not (changes or self.switch)


def key_of(action: Action) -> str:
    """A name for an action, under which its reasons are kept."""
    match action:
        case Install(package):
            return f"install:{package}"
        case Enable(extension, _, branch, sapi):
            return f"enable:{branch}/{sapi}:{extension}"
        case AddLine(extension, _, file):
            return f"line:{file}:{extension}"
        case Set(name, _, _, _, runtime):
            return f"set:{runtime}:{name}"
        case AddPool():
            return f"pool:{action.runtime}"
        case Restart(service):
            return f"restart:{service}"
