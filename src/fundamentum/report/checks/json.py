"""The JSON of ``check``: a typed document, from which the shipped schema is made too."""

from collections.abc import Sequence
from datetime import date
from typing import IO

import msgspec

from fundamentum.check.risks import risks
from fundamentum.kinds.limits.limit_chain import narrowest
from fundamentum.model.findings import Finding, Judgement, State, Verdict
from fundamentum.model.needs import Acceptance
from fundamentum.model.needs_value import Level
from fundamentum.model.survey import Survey
from fundamentum.needs.accepted import unmatched
from fundamentum.report.escape import as_json
from fundamentum.report.written_text import write_out

FORMAT = 1


def write(
    stream: IO[str],
    judgements: Sequence[Judgement],
    survey: Survey,
    *,
    today: date,
    following: str = "",
    detail: str = "usual",
) -> None:
    """The document, to the stream."""
    write_out(as_json(check_document(judgements, survey, today=today)), stream)


class RuntimeName(msgspec.Struct):
    """The runtime that was judged."""

    php: str | None
    branch: str
    sapi: str
    pool: str | None
    installed: bool
    reason: str
    site: str | None = None
    """The site, and the directory of it, that was judged: the worst, where those it serves do not meet the same."""


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


class ChangeName(msgspec.Struct):
    """A change of the plan for the application."""

    key: str
    """Its name in the plan's JSON."""
    about: str


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
    changes: list[ChangeName]
    """What meets it, as a plan for the application does it."""


class RiskRow(msgspec.Struct):
    """Something risky about the runtime, apart from what the application needs."""

    about: str
    found: str
    why: str
    remedy: str
    origin: str


class CommandLine(msgspec.Struct):
    """How the PHP fares that runs the application's programs at set times."""

    runtime: str
    installed: bool
    findings: list[FindingRow]


class ApplicationResult(msgspec.Struct):
    """One application."""

    name: str
    version: str | None
    satisfied: bool
    runtime: RuntimeName
    findings: list[FindingRow]
    risks: list[RiskRow]
    risk_count: int
    command_line: CommandLine | None
    """None: nothing is run there at set times."""


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


def _row(finding: Finding) -> FindingRow:
    return FindingRow(
        need=finding.need,
        level=finding.level,
        verdict=finding.verdict,
        state=finding.state,
        wanted=finding.wanted,
        found=finding.found,
        origin=str(finding.origin) if finding.origin else None,
        remedy=finding.advice,
        changes=[ChangeName(change.key, change.about) for change in finding.changes],
        overridden=[str(lost) for lost in finding.overridden],
        remark=finding.remark,
        note=finding.note,
        accepted=_accepted(finding.acceptance),
        chain=[
            LinkRow(
                link.of,
                link.name,
                link.shown,
                str(link.origin),
                link.site,
                link.enough,
                link is narrowest(finding.chain),
            )
            for link in finding.chain
        ],
    )


def _accepted(acceptance: Acceptance | None) -> AcceptedRow | None:
    return (
        AcceptedRow(acceptance.reason, acceptance.by, str(acceptance.until) if acceptance.until else None)
        if acceptance
        else None
    )


def _command_line(judgement: Judgement | None) -> CommandLine | None:
    return (
        CommandLine(
            judgement.target.runtime.label, judgement.target.present, [_row(finding) for finding in judgement.findings]
        )
        if judgement
        else None
    )


def check_document(judgements: Sequence[Judgement], survey: Survey, *, today: date) -> CheckDocument:
    """All findings of all applications."""
    return CheckDocument(
        format=FORMAT,
        server=survey.server,
        satisfied=all(judgement.satisfied for judgement in judgements),
        applications=[
            ApplicationResult(
                name=judgement.needs.name,
                version=judgement.needs.version,
                satisfied=judgement.satisfied,
                runtime=RuntimeName(
                    php=judgement.target.runtime.version,
                    branch=judgement.target.runtime.branch,
                    sapi=judgement.target.runtime.sapi,
                    pool=judgement.target.runtime.pool,
                    installed=judgement.target.present,
                    reason=judgement.target.reason,
                    site=judgement.target.part,
                ),
                findings=[_row(finding) for finding in judgement.findings],
                command_line=_command_line(judgement.command_line),
                risks=[RiskRow(r.about, r.found, r.why, r.remedy, r.origin) for r in risks(survey, judgement, today)],
                risk_count=len(risks(survey, judgement, today)),
            )
            for judgement in judgements
        ],
        remarks=[
            *(
                RemarkRow(remark_shown.title, remark_shown.why)
                for remark_shown in (
                    *survey.remarks,
                    *(remark for j in judgements for remark in j.target.runtime.remarks),
                )
            ),
            *(
                RemarkRow(acceptance.where, f"'{acceptance.need}' is no need of these applications")
                for acceptance in unmatched(judgement.needs for judgement in judgements)
            ),
        ],
    )
