"""The JSON of ``plan``: a typed document, from which the shipped schema is made too."""

from typing import IO, Any, TypeVar

import msgspec

from fundamentum.changes.base import Change
from fundamentum.changes.service import Restart
from fundamentum.changes.steps import Step
from fundamentum.kinds import reason_in_words
from fundamentum.model.survey import Survey
from fundamentum.plan.made_plan import Decision, Plan, Row
from fundamentum.plan.plan_file import as_document
from fundamentum.platforms import platform
from fundamentum.report.escape import as_json
from fundamentum.report.plan_rows import (
    ChangeRow,
    ComesAlong,
    ComparedBranch,
    FileChange,
    OtherSite,
    Packages,
    PlannedDatabase,
    PlannedDirectory,
    PlannedExtension,
    PlannedLimit,
    PlannedModules,
    PlannedRuntime,
    PlannedService,
    PlannedSetting,
    PlannedSite,
    PlannedTask,
    StepRow,
    UnresolvedNeed,
    UpgradedPackage,
    WhyRow,
)
from fundamentum.report.written_text import write_out

AnyRow = TypeVar("AnyRow", bound=msgspec.Struct)
FORMAT = 1


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
    steps: list[StepRow]
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
    sites: list[PlannedSite]
    databases: list[PlannedDatabase]
    others: list[OtherSite]
    """What the plan changes for sites that it was not made for."""
    changes: list[ChangeRow]
    """Every change, in order; those of most kinds have a row in one of the other tables too."""
    identity: str
    """The name of exactly this plan, which the journals of its script carry."""
    hints: list[str]
    """What else an administrator should know, in sentences."""
    whole: dict[str, Any]
    """All that the other formats are made of: ``plan --from`` reads it.  Everything else here follows from it."""
    undo: list[str]
    """What takes the operations back, the last one first, as far as commands can."""


def write(stream: IO[str], plan: Plan, survey: Survey | None, *, full: bool = False) -> None:
    """The document, to the stream."""
    write_out(as_json(plan_document(plan)), stream)


def plan_document(plan: Plan) -> PlanDocument:
    """The plan with its steps spelled out; each change fills a row in the table of its kind too."""
    of = platform(plan.family)
    tables: dict[str, list[dict[str, Any]]] = {}
    for change in plan.changes:
        tables.setdefault(change.FILLS, []).append(change.row())
    packages = [row["install"] for row in tables.pop("packages", [])]
    decision = plan.decision or Decision()
    return PlanDocument(
        format=FORMAT,
        server=plan.server,
        complete=plan.complete,
        runtimes=[
            PlannedRuntime(application.name, application.branch, application.sapi, application.pool)
            for application in plan.applications
        ],
        packages=Packages(
            install=packages,
            remove=list(plan.removes),
            along=list(plan.along),
            upgrade=[
                UpgradedPackage(upgrade.package, upgrade.before, upgrade.after, upgrade.back)
                for upgrade in plan.upgrades
            ],
            fetch=plan.fetch,
            space=plan.space,
        ),
        settings=_rows(tables, "settings", PlannedSetting),
        enable=_rows(tables, "enable", PlannedExtension),
        services=_rows(tables, "services", PlannedService),
        limits=_rows(tables, "limits", PlannedLimit),
        directories=_rows(tables, "directories", PlannedDirectory),
        tasks=_rows(tables, "tasks", PlannedTask),
        modules=_rows(tables, "modules", PlannedModules),
        sites=_rows(tables, "sites", PlannedSite),
        databases=_rows(tables, "databases", PlannedDatabase),
        steps=[_step(plan, step) for step in plan.steps],
        changes=[_change(plan, change) for change in plan.changes],
        others=[OtherSite(other.site, other.name, other.before, other.after) for other in plan.others],
        unresolved=[UnresolvedNeed(need.need, need.why, need.application, need.level) for need in plan.unresolved],
        edits=[FileChange(edit.path, edit.diff, edit.copied_from or None) for edit in plan.edits],
        compared=[_compared(row) for row in decision.rows],
        conflict=list(decision.conflict),
        apart=list(decision.apart),
        asides=[ComesAlong(aside.package, aside.why, aside.instead) for aside in plan.asides],
        identity=plan.identity,
        hints=list(plan.hints),
        undo=[command for step in _back(plan) for command in step.operation.undone(of)],
        whole=as_document(plan),
    )


def _back(plan: Plan) -> list[Step]:
    """The steps from the last to the first; services take up what there is then."""
    services = [step for step in plan.steps if step.operation.KIND == "restart"]
    return [*(step for step in reversed(plan.steps) if step not in services), *services]


def _rows(tables: dict[str, list[dict[str, Any]]], name: str, kind: type[AnyRow]) -> list[AnyRow]:
    return msgspec.convert(tables.get(name, []), list[kind])  # type: ignore[valid-type]


def _step(plan: Plan, step: Step) -> StepRow:
    operation = step.operation
    reasons = [f"{change.about}: {reason_in_words(reason)}" for change, reason in plan.why_all(step.changes)]
    reasons += plan.told_at(step)
    if operation.KIND == "restart" and len(plan.steps) > len(plan.of(Restart)):
        reasons.append(f"{operation.thing}: so that it runs with the changes above")
    commands = operation.commands(platform(plan.family))
    return StepRow(operation.title, commands, reasons, operation.KIND, operation.thing)


def _change(plan: Plan, change: Change) -> ChangeRow:
    return ChangeRow(
        key=change.key,
        kind=type(change).__module__.rpartition(".")[2],
        about=change.about,
        effect=change.effect,
        file=change.file or None,
        words=plan.words[change.key],
        why=[WhyRow(reason.application, reason.need, reason.level, reason.note) for reason in plan.why(change)],
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
