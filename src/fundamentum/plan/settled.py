"""What a planner has settled on so far, and how the applications fare with it."""

import msgspec

from fundamentum.changes.base import Change
from fundamentum.check.remedies import refused
from fundamentum.model.findings import Finding, Judgement
from fundamentum.model.need_id import NeedId
from fundamentum.model.reason import Reason
from fundamentum.model.survey import Survey
from fundamentum.plan.made_plan import Aside, Planned, Unresolved, Upgrade


class Settled(msgspec.Struct):
    """What has to be done for some applications on given runtimes, and how they fare then."""

    changes: dict[str, Change]
    reasons: dict[str, dict[Reason, None]]
    judgements: tuple[Judgement, ...]
    along: tuple[str, ...] = ()
    upgrades: tuple[Upgrade, ...] = ()
    fetch: int = 0
    space: int = 0
    removes: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    asides: tuple[Aside, ...] = ()
    world: Survey | None = None
    """The server as it is then."""

    def unresolved(self) -> list[Unresolved]:
        """The needs that stay unmet."""
        unmet = [
            Unresolved(finding.need, _why(finding, judgement), judgement.needs.name, finding.level)
            for judgement in self.judgements
            for finding in judgement.findings
            if finding.verdict in ("unmet", "unknown")
        ]
        unmet += [
            Unresolved(
                finding.need, f"on the command line: {_why(finding, judgement)}", judgement.needs.name, finding.level
            )
            for judgement in (judged.command_line for judged in self.judgements)
            for finding in (judgement.findings if judgement else ())
            if finding.verdict in ("unmet", "unknown") and judgement
        ]
        name = self.judgements[0].needs.name
        return unmet + [
            Unresolved(NeedId("php"), f"cannot be installed: {what}", name, "required") for what in self.missing
        ]


def _why(finding: Finding, judgement: Judgement) -> str:
    if finding.need != "php" and refused(judgement):
        return f"{finding.found or 'not met'}; nothing is done for it on a PHP that it does not accept"
    return "; ".join(part for part in (finding.found, finding.remedy) if part)


def planned(before: Judgement, after: Judgement) -> Planned:
    """An application as a plan tells of it."""
    runtime, findings = after.target.runtime, after.all_findings
    return Planned(
        after.needs.name,
        after.needs.version,
        runtime.branch,
        runtime.sapi,
        runtime.pool,
        runtime.label,
        after.target.reason if after.target.beside else before.target.reason,
        len(findings),
        sum(finding.verdict == "met" for finding in findings),
        sum(finding.verdict == "accepted" for finding in findings),
        after.satisfied,
    )
