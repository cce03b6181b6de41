"""The JSON of ``plan``: a typed document, from which the shipped schema is made too."""

import shlex

import msgspec

from fundamentum.check.directories import commands
from fundamentum.model.plan import Plan, Row
from fundamentum.model.value import Level
from fundamentum.report.steps import Step, steps

FORMAT = 1


class PlannedRuntime(msgspec.Struct):
    """Where an application will run."""

    application: str
    branch: str
    sapi: str
    pool: str | None


class Packages(msgspec.Struct):
    """Packages by what happens to them."""

    install: list[str]
    remove: list[str]
    along: list[str]


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


class PlanDocument(msgspec.Struct):
    """The output of ``fundamentum plan --format json``."""

    format: int
    server: str
    complete: bool
    runtimes: list[PlannedRuntime]
    packages: Packages
    settings: list[PlannedSetting]
    enable: list[PlannedExtension]
    services: list[PlannedService]
    steps: list[Step]
    unresolved: list[UnresolvedNeed]
    edits: list[FileChange]
    compared: list[ComparedBranch]
    conflict: list[str]
    """Needs that cannot hold together, in words."""
    apart: list[str]
    """Why applications on one branch get pools of their own, in words."""
    asides: list[ComesAlong]
    limits: list[PlannedLimit]
    directories: list[PlannedDirectory]
    tasks: list[PlannedTask]
    modules: list[PlannedModules]
    others: list[OtherSite]
    """What the plan changes for sites that it was not made for."""


def plan_document(plan: Plan) -> PlanDocument:
    """The plan with its steps spelled out."""
    targets = [(one.needs.name, one.target.runtime) for one in plan.after]
    return PlanDocument(
        format=FORMAT,
        server=plan.server,
        complete=plan.complete,
        runtimes=[PlannedRuntime(name, runtime.branch, runtime.sapi, runtime.pool) for name, runtime in targets],
        packages=Packages(
            install=[one.package for one in plan.installs], remove=list(plan.removes), along=list(plan.along)
        ),
        settings=[PlannedSetting(one.name, one.before, one.after, one.file, one.runtime) for one in plan.settings]
        + [PlannedSetting(one.name, one.before, one.after, one.spot.file, one.runtime) for one in plan.relined],
        others=[OtherSite(one.site, one.name, one.before, one.after) for one in plan.others],
        enable=[PlannedExtension(one.extension, f"{one.branch}/{one.sapi}") for one in plan.enables]
        + [PlannedExtension(one.extension, one.runtime) for one in plan.lines],
        services=[PlannedService(one.service, one.verb) for one in plan.restarts],
        steps=steps(plan),
        unresolved=[UnresolvedNeed(one.need, one.why, one.application, one.level) for one in plan.unresolved],
        edits=[FileChange(one.path, one.diff) for one in plan.edits],
        compared=[_compared(row) for row in plan.decision.rows] if plan.decision else [],
        conflict=list(plan.decision.conflict) if plan.decision else [],
        apart=list(plan.decision.apart) if plan.decision else [],
        asides=[ComesAlong(one.package, one.why, one.instead) for one in plan.asides],
        limits=[PlannedLimit(a.name, a.before, a.after, a.file, a.site, None) for a in plan.allowed]
        + [PlannedLimit(m.name, m.before, m.after, m.file, None, m.runtime) for m in plan.managed]
        + [
            PlannedLimit(w.name, w.before, w.after, w.spot.file if w.spot else None, w.site, None) for w in plan.widened
        ],
        directories=[
            PlannedDirectory(one.arrangement.path, [shlex.join(command) for command in commands(one.arrangement)])
            for one in plan.arranged
        ],
        tasks=[PlannedTask(one.command, one.line, one.file) for one in plan.scheduled],
        modules=[
            PlannedModules(
                one.server, list(one.modules), list(one.without), list(one.snippets), [site.link for site in one.sites]
            )
            for one in plan.switched
        ],
    )


def _compared(row: Row) -> ComparedBranch:
    return ComparedBranch(
        row.name,
        row.installed,
        row.version,
        row.supported_until.isoformat() if row.supported_until else None,
        row.maintained_by,
        list(row.chosen_for),
        row.required,
        row.recommended,
        row.installs,
        list(row.removes),
        list(row.sites),
        row.reason,
    )
