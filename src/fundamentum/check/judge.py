"""The check itself: for each need, find where it stands."""

from collections import Counter

import msgspec

from fundamentum.catalog.quantity import switch
from fundamentum.check import around, extensions, settings
from fundamentum.check.chain import sites_of
from fundamentum.check.offers import Market
from fundamentum.check.stray import for_stray, stray_site
from fundamentum.check.target import choose, command_line, other_branches
from fundamentum.check.way_in import unserved, way_in
from fundamentum.effective.merge import views
from fundamentum.model.findings import Finding, Judgement, State, Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import Acceptance, Needs
from fundamentum.model.origin import Origin
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms import platform
from fundamentum.webservers import names, webserver


def check(needs: Needs, survey: Survey, selector: str | None = None, market: Market | None = None) -> Judgement:
    """Hold an application's needs against the runtime that serves the web, or the one that ``selector`` names."""
    market = market or Market(survey)
    return judge(needs, survey, choose(survey, needs, selector, market), market)


def judge(needs: Needs, survey: Survey, target: Target, market: Market) -> Judgement:
    """The judgement for the site that counts; and for the command line, if programs are run there at set times."""
    found = _for_web(needs, survey, target, market)
    if not needs.tasks or target.runtime.sapi == "cli" or platform(survey.system.family).shows_a_visit:
        return found
    asked = Needs(
        name=needs.name,
        version=needs.version,
        php=needs.php,
        extensions=needs.extensions,
        loaders=needs.loaders,
        accepted=needs.accepted,
        notes=needs.notes,
    )
    there = _judged(asked, survey, command_line(survey, target), market, None)
    return msgspec.structs.replace(found, command_line=there)


def _for_web(needs: Needs, survey: Survey, target: Target, market: Market) -> Judgement:
    """The judgement for the site whose requests fare worst, of those that the runtime serves or that was named."""
    if stray_site(survey, target):
        return _judged(needs, survey, target, market, None)
    runtime = target.base or target.runtime
    neighbours = [site for site in survey.sites if site.runtime in (runtime.label, target.beside or runtime.label)]
    met = list(views(runtime, _answering(survey, target), neighbours))
    if not met:
        return _judged(needs, survey, target, market, None)
    several = len(met) > 1
    judged = []
    for site, below, view in met:
        part = f"{site.name}{f' in {below}/' if below else ''}" if several or below else None
        seen = msgspec.structs.replace(target, runtime=view, base=runtime, part=part)
        judged.append(_judged(needs, survey, seen, market, site))
    return max(judged, key=_badness)


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


def _judged(needs: Needs, survey: Survey, target: Target, market: Market, site: Site | None) -> Judgement:
    """One finding for each need, in the order of the needs file, PHP itself first."""
    about_php = _answered(way_in(php(needs, survey, target, market), survey, target, site), target, site)
    for name in names():
        about_php = webserver(name).handed(about_php, survey, target, market.package)
    about_php = unserved(about_php, survey, target) if site is None else about_php
    findings = [about_php]
    findings += [extensions.judge(need, survey, target, market) for need in needs.extensions]
    findings += [extensions.judge_loader(need, survey, target, market) for need in needs.loaders]
    findings += [settings.judge(need, survey, target, market) for need in needs.settings]
    findings += [around.judge(need, needs, survey, target, market) for need in needs.around]
    if (stray := stray_site(survey, target)) and about_php.verdict == "unknown":
        untold = f"which PHP serves {stray.name} cannot be told"
        findings[1:] = [
            Finding(one.need, one.level, "unknown", wanted=one.wanted, remedy=untold) for one in findings[1:]
        ]
    noted = (msgspec.structs.replace(f, note=needs.note(f.need)) for f in findings)
    return Judgement(needs, target, tuple(_on_record(f, needs.acceptance(f.need)) for f in noted))


def _answered(finding: Finding, target: Target, site: Site | None) -> Finding:
    """The finding about PHP itself, with what keeps every request of the site from being answered by it."""
    if site is None or finding.verdict != "met":
        return finding
    engine = target.runtime.settings.get("engine")
    if target.runtime.sapi == "apache2" and engine and engine.value is not None and not switch(engine.value):
        found = f"PHP is switched off for {site.name}, and its source is handed out"
        remedy = f"switch engine on at {engine.origin}"
        return msgspec.structs.replace(
            finding, verdict="unmet", state="switched-off", found=found, origin=engine.origin, remedy=remedy
        )
    return finding


def _on_record(finding: Finding, accepted: Acceptance | None) -> Finding:
    """The finding where somebody has accepted that it is not met: as long as that holds, and no longer."""
    if accepted is None:
        return finding
    if finding.verdict == "met":
        return _remarked(finding, f"accepted by {accepted.by}, and met: {accepted.where} can go")
    if accepted.expired:
        return _remarked(finding, f"{accepted.by} accepted this until {accepted.until}, which has passed")
    return msgspec.structs.replace(finding, verdict="accepted", acceptance=accepted)


def _remarked(finding: Finding, remark: str) -> Finding:
    return msgspec.structs.replace(finding, remark=f"{finding.remark}; {remark}" if finding.remark else remark)


def php(needs: Needs, survey: Survey, target: Target, market: Market) -> Finding:
    """The PHP version of the runtime, and whether it is there at all."""
    runtime = target.runtime
    base = Finding(
        need=NeedId("php"),
        level="required",
        verdict="met",
        wanted=str(needs.php),
        found=runtime.version or runtime.branch,
        origin=Origin(runtime.program) if runtime.program else None,
    )
    if stray := stray_site(survey, target):
        return for_stray(base, survey, target, stray, market)
    others = [branch for branch in other_branches(survey, needs, market) if branch != runtime.branch]
    instead = (
        f"the application accepts PHP {', '.join(others)}, which this server has or offers"
        if others
        else "no PHP that the application accepts is installed or offered here"
    )
    accepted = needs.php.accepts(runtime.version) if runtime.version else needs.php.accepts_branch(runtime.branch)
    offer = None if target.present else market.runtime_package(runtime.branch, runtime.sapi)
    if not accepted:
        state: State = "other-branch" if others else "unobtainable"
        package = offer.name if offer and target.wanted else None
        return msgspec.structs.replace(
            base, verdict="unmet", state=state, remedy=instead, subject=runtime.sapi, package=package
        )
    if not target.present:
        return msgspec.structs.replace(
            base,
            verdict="unmet",
            state="installable",
            found="not installed",
            subject=runtime.sapi,
            package=offer.name if offer else None,
            remedy=f"install {offer.name} ({offer.source})" if offer else "install PHP",
        )
    return base
