"""The check itself: for each need, find where it stands."""

from collections import Counter
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.quantity import switch
from fundamentum.check.judged_runtime import choose, command_line
from fundamentum.check.remedies import with_remedies
from fundamentum.effective.judged_sites import sites_of
from fundamentum.effective.site_configuration import views
from fundamentum.kinds import kind_of
from fundamentum.kinds.base import Context
from fundamentum.kinds.php.unseen_php import stray_site
from fundamentum.kinds.tasks import TaskNeed
from fundamentum.model.findings import Finding, Judgement, Target
from fundamentum.model.needs import Acceptance, Needs
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms import platform
from fundamentum.platforms.offers import Offers


def check(needs: Needs, survey: Survey, selector: str | None = None, offers: Offers | None = None) -> Judgement:
    """Hold an application's needs against the runtime that serves the web, or the one that ``selector`` names.

    Each finding has the changes that a plan for the application would make for it, and says them as its remedy.
    """
    offers = offers or Offers(survey)
    return with_remedies(judge(needs, survey, choose(survey, needs, selector, offers), offers), survey, offers)


def judge(needs: Needs, survey: Survey, target: Target, offers: Offers) -> Judgement:
    """The judgement for the site that counts; and for the command line, if programs are run there at set times."""
    if target.runtime.sapi == "cli":  # named: what is said of no way of running in particular is held against it too
        here = (need for need in needs.all if kind_of(need.key).concerns(need, kind_of(need.key).on_command_line))
        return _for_web(replace(needs, needs=tuple(here)), survey, target, offers)
    judgement = _for_web(_of_way(needs, command_line=False), survey, target, offers)
    there = _of_way(needs, command_line=True)
    run_there = needs.of(TaskNeed) or any(not kind_of(need.key).concerns(need, False) for need in there.needs)
    if not run_there or platform(survey.system.family).shows_a_visit:
        return judgement
    return replace(judgement, command_line=_judged(there, survey, command_line(survey, target), offers, None))


def _of_way(needs: Needs, *, command_line: bool) -> Needs:
    """The needs that hold for the command line, or for pages."""
    kept = tuple(need for need in needs.all if kind_of(need.key).concerns(need, command_line))
    return replace(needs, needs=kept)


def _for_web(needs: Needs, survey: Survey, target: Target, offers: Offers) -> Judgement:
    """The judgement for the site whose requests fare worst, of those that the runtime serves or that was named."""
    if stray_site(survey, target):
        return _judged(needs, survey, target, offers, None)
    runtime = target.base or target.runtime
    neighbours = [site for site in survey.sites if site.runtime in (runtime.label, target.beside or runtime.label)]
    met = [at_site for at_site in views(runtime, _answering(survey, target), neighbours) if not _shut_off(*at_site[1:])]
    if not met:
        return _judged(needs, survey, target, offers, None)
    several = len(met) > 1
    judged = []
    for site, below, view in met:
        part = f"{site.name}{f' in {below}' if below else ''}" if several or below else None
        seen = replace(target, runtime=view, base=runtime, part=part)
        judged.append(_judged(needs, survey, seen, offers, site))
    return max(judged, key=_badness)


def _shut_off(below: str, view: Runtime) -> bool:
    """Whether no PHP is run in a part of a site, as is usual where visitors' files are kept."""
    engine = view.settings.get("engine")
    return bool(below and view.sapi == "apache2" and engine and engine.value is not None and not switch(engine.value))


def _answering(survey: Survey, target: Target) -> list[Site]:
    """The sites that count: not those of a web server that does not run, where another one that runs has some too."""
    sites = sites_of(survey, target)
    if target.site is not None or survey.processes != "seen":
        return sites
    idle = {process.server for process in survey.servers if process.started is None}
    return [site for site in sites if site.server not in idle] or sites


def _badness(judgement: Judgement) -> tuple[int, ...]:
    """How far a judgement is from one in which everything is met; of equally bad ones the first counts."""
    counts = Counter((finding.level, finding.verdict) for finding in judgement.findings)
    order = [(level, verdict) for level in ("required", "recommended") for verdict in ("unmet", "unknown")]
    return tuple(counts[pair] for pair in order)  # type: ignore[index]


def _judged(needs: Needs, survey: Survey, target: Target, offers: Offers, site: Site | None) -> Judgement:
    """One finding for each need, in the order of their kinds, PHP itself first."""
    context = Context(needs, survey, target, offers, site)
    findings = [_as_far_as_told(kind_of(need.key).judge(need, context), offers) for need in needs.all]
    if (stray := stray_site(survey, target)) and findings[0].verdict == "unknown":
        untold = f"which PHP serves {stray.name} cannot be told"
        findings[1:] = [
            Finding(finding.need, finding.level, "unknown", wanted=finding.wanted, remedy=untold)
            for finding in findings[1:]
        ]
    noted = (replace(finding, note=needs.note(finding.need)) for finding in findings)
    return Judgement(needs, target, tuple(_on_record(finding, needs.acceptance(finding.need)) for finding in noted))


_ELSEWHERE: Final = "PHP itself does not tell: survey the server, or record it (survey --recorder)"


def _as_far_as_told(finding: Finding, offers: Offers) -> Finding:
    """The finding; where PHP's own words are all there is, unknown of what these are not about."""
    beyond = kind_of(finding.need).beyond_php
    if offers.platform.unseen is None or not beyond or finding.verdict == "met" or finding.origin is not None:
        return finding
    untold = replace(finding, verdict="unknown", state=None, found="not known", package=None)
    return replace(untold, remedy=_ELSEWHERE, demands=())


def _on_record(finding: Finding, accepted: Acceptance | None) -> Finding:
    """The finding where somebody has accepted that it is not met: as long as that holds, and no longer."""
    if accepted is None:
        return finding
    if finding.verdict == "met":
        return _remarked(finding, f"accepted by {accepted.by}, and met: {accepted.where} can go")
    if accepted.expired:
        return _remarked(finding, f"{accepted.by} accepted this until {accepted.until}, which has passed")
    return replace(finding, verdict="accepted", acceptance=accepted, demands=())


def _remarked(finding: Finding, remark: str) -> Finding:
    return replace(finding, remark=f"{finding.remark}; {remark}" if finding.remark else remark)
