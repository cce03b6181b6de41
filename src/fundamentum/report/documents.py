"""The JSON of ``check`` and ``plan``: typed documents, from which the shipped schemas are made too."""

import shlex
from collections.abc import Sequence

import msgspec

from fundamentum.check.chain import narrowest
from fundamentum.check.directories import commands
from fundamentum.check.model import Finding, Judgement, State, Verdict
from fundamentum.check.safety import risks
from fundamentum.needs.accepted import unmatched
from fundamentum.needs.model import Acceptance
from fundamentum.needs.value import Level
from fundamentum.plan.model import Plan, Row
from fundamentum.report.steps import Step, steps
from fundamentum.server.model import Survey

FORMAT = 1


class RuntimeName(msgspec.Struct):
    """The runtime that was judged."""

    php: str | None
    branch: str
    sapi: str
    pool: str | None
    installed: bool
    reason: str


class AcceptedRow(msgspec.Struct):
    """Who accepted that a need is not met."""

    reason: str
    by: str
    until: str | None


class LinkRow(msgspec.Struct):
    """One limit on the way of a request."""

    of: str
    name: str
    value: str
    origin: str
    site: str | None
    enough: bool | None
    """None: not known."""
    narrowest: bool


class FindingRow(msgspec.Struct):
    """One need held against the runtime."""

    need: str
    level: Level
    verdict: Verdict
    state: State | None
    wanted: str | None
    found: str | None
    origin: str | None
    remedy: str | None
    overridden: list[str]
    remark: str | None
    note: str | None
    accepted: AcceptedRow | None
    chain: list[LinkRow]
    """The limits on the way, in order, for needs that are about all of them together."""


class RiskRow(msgspec.Struct):
    """Something risky about the runtime, apart from what the application needs."""

    about: str
    found: str
    why: str
    remedy: str
    origin: str


class ApplicationResult(msgspec.Struct):
    """One application."""

    name: str
    version: str | None
    satisfied: bool
    runtime: RuntimeName
    findings: list[FindingRow]
    risks: list[RiskRow]
    risk_count: int


class RemarkRow(msgspec.Struct):
    """What could not be read on the server, and what is unknown for that reason."""

    about: str
    why: str


class CheckDocument(msgspec.Struct):
    """The output of ``fundamentum check --format json``."""

    format: int
    server: str
    satisfied: bool
    applications: list[ApplicationResult]
    remarks: list[RemarkRow]


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


def _row(finding: Finding) -> FindingRow:
    return FindingRow(
        need=finding.need,
        level=finding.level,
        verdict=finding.verdict,
        state=finding.state,
        wanted=finding.wanted,
        found=finding.found,
        origin=finding.origin,
        remedy=finding.remedy,
        overridden=list(finding.overridden),
        remark=finding.remark,
        note=finding.note,
        accepted=_accepted(finding.acceptance),
        chain=[
            LinkRow(one.of, one.name, one.shown, one.origin, one.site, one.enough, one is narrowest(finding.chain))
            for one in finding.chain
        ],
    )


def _accepted(one: Acceptance | None) -> AcceptedRow | None:
    return AcceptedRow(one.reason, one.by, str(one.until) if one.until else None) if one else None


def check_document(judgements: Sequence[Judgement], survey: Survey) -> CheckDocument:
    """All findings of all applications."""
    return CheckDocument(
        format=FORMAT,
        server=survey.server,
        satisfied=all(one.satisfied for one in judgements),
        applications=[
            ApplicationResult(
                name=one.needs.name,
                version=one.needs.version,
                satisfied=one.satisfied,
                runtime=RuntimeName(
                    php=one.target.runtime.version,
                    branch=one.target.runtime.branch,
                    sapi=one.target.runtime.sapi,
                    pool=one.target.runtime.pool,
                    installed=one.target.present,
                    reason=one.target.reason,
                ),
                findings=[_row(finding) for finding in one.findings],
                risks=[RiskRow(r.about, r.found, r.why, r.remedy, r.origin) for r in risks(survey, one.target)],
                risk_count=len(risks(survey, one.target)),
            )
            for one in judgements
        ],
        remarks=[
            *(
                RemarkRow(one.about, one.why)
                for one in (*survey.remarks, *(r for j in judgements for r in j.target.runtime.remarks))
            ),
            *(
                RemarkRow(one.where, f"'{one.need}' is no need of these applications")
                for one in unmatched(judgement.needs for judgement in judgements)
            ),
        ],
    )


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
        settings=[PlannedSetting(one.name, one.before, one.after, one.file, one.runtime) for one in plan.settings],
        enable=[PlannedExtension(one.extension, f"{one.branch}/{one.sapi}") for one in plan.enables]
        + [PlannedExtension(one.extension, one.runtime) for one in plan.lines],
        services=[PlannedService(one.service, "reload" if one.gently else "restart") for one in plan.restarts],
        steps=steps(plan),
        unresolved=[UnresolvedNeed(one.need, one.why, one.application, one.level) for one in plan.unresolved],
        edits=[FileChange(one.path, one.diff) for one in plan.edits],
        compared=[_compared(row) for row in plan.decision.rows] if plan.decision else [],
        conflict=list(plan.decision.conflict) if plan.decision else [],
        apart=list(plan.decision.apart) if plan.decision else [],
        asides=[ComesAlong(one.package, one.why, one.instead) for one in plan.asides],
        limits=[PlannedLimit(m.name, m.before, m.after, m.file, None, m.runtime) for m in plan.managed]
        + [
            PlannedLimit(w.name, w.before, w.after, w.spot.file if w.spot else None, w.site, None) for w in plan.widened
        ],
        directories=[
            PlannedDirectory(one.arrangement.path, [shlex.join(command) for command in commands(one.arrangement)])
            for one in plan.arranged
        ],
        tasks=[PlannedTask(one.command, one.line, one.file) for one in plan.scheduled],
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


def as_json(document: msgspec.Struct) -> str:
    """The document, indented, with a newline at its end."""
    return msgspec.json.format(msgspec.json.encode(document), indent=2).decode("utf-8") + "\n"
