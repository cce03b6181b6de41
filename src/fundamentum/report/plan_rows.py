"""Rows of the tables in a plan's JSON."""

import msgspec

from fundamentum.changes.primitives import Kind
from fundamentum.model.needs_value import Level


class PlannedRuntime(msgspec.Struct):
    """Where an application will run."""

    application: str
    branch: str
    sapi: str
    pool: str | None


class UpgradedPackage(msgspec.Struct):
    """An installed package that is brought to another version."""

    package: str
    from_: str = msgspec.field(name="from")
    to: str
    back: bool
    """Whether the version before can still be had, so that there is a way back."""


class Packages(msgspec.Struct):
    """Packages by what happens to them."""

    install: list[str]
    remove: list[str]
    along: list[str]
    """What comes with them: new, or brought to another version."""
    upgrade: list[UpgradedPackage]
    fetch: int
    """Bytes to be fetched; 0 where that is not known."""
    space: int
    """Bytes that new packages take on the disk."""


class PlannedSetting(msgspec.Struct):
    """One directive that gets another value."""

    name: str
    from_: str | None = msgspec.field(name="from")
    to: str
    file: str
    runtime: str


class PlannedExtension(msgspec.Struct):
    """One extension that is switched on."""

    extension: str
    runtime: str


class PlannedLimit(msgspec.Struct):
    """One limit of a web server or a process manager that is widened."""

    name: str
    from_: str = msgspec.field(name="from")
    to: str
    file: str | None
    """None: by a command."""
    site: str | None
    runtime: str | None


class PlannedDirectory(msgspec.Struct):
    """One directory that is made, or given to somebody."""

    path: str
    commands: list[str]


class PlannedTask(msgspec.Struct):
    """One program that is run at set times."""

    command: str
    line: str
    file: str


class PlannedModules(msgspec.Struct):
    """What is switched on in a web server so that it hands PHP files to PHP."""

    server: str
    on: list[str]
    off: list[str]
    snippets: list[str]
    links: list[str] = []
    """Links to the files that sites are set up in."""


class PlannedSite(msgspec.Struct):
    """One site that is set up."""

    name: str
    server: str
    root: str
    runtime: str
    file: str


class PlannedDatabase(msgspec.Struct):
    """One database that is made, with its user."""

    name: str
    product: str
    user: str
    password_file: str
    """On the server."""


class PlannedService(msgspec.Struct):
    """One service that is restarted."""

    name: str
    action: str


class ComparedBranch(msgspec.Struct):
    """One branch that was weighed."""

    branch: str
    installed: bool
    php: str | None
    fixed_until: str | None
    maintained_by: str
    chosen_for: list[str]
    required_unmet: int
    recommended_unmet: int
    packages: int
    removes: list[str]
    sites: list[str]
    reason: str


class FileChange(msgspec.Struct):
    """A change of an existing file, as a unified diff."""

    file: str
    diff: str
    copied_from: str | None = None
    """The file that is copied there first; null: the file is there."""


class ComesAlong(msgspec.Struct):
    """A package that comes along and deserves a look."""

    package: str
    why: str
    instead: str


class UnresolvedNeed(msgspec.Struct):
    """A need that stays unmet."""

    need: str
    why: str
    application: str
    level: Level


class OtherSite(msgspec.Struct):
    """One value that another site has afterwards."""

    site: str
    name: str
    before: str
    after: str


class StepRow(msgspec.Struct):
    """One operation: its commands in a shell's words, and the reason for each thing in it."""

    title: str
    commands: list[str]
    why: list[str]
    kind: Kind
    subject: str
    """The file, service or source it is about."""


class WhyRow(msgspec.Struct):
    """A need that a change serves."""

    application: str
    need: str
    level: Level
    note: str | None


class ChangeRow(msgspec.Struct):
    """One change, of whatever kind."""

    key: str
    """What it changes.  Findings name their changes so."""
    kind: str
    about: str
    effect: str
    """What becomes of it; empty where that is what it is about."""
    file: str | None
    words: str
    """What a person would do."""
    why: list[WhyRow]
