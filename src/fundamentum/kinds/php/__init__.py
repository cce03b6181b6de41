"""PHP itself: ``[php]``: whether a request to the application is answered by a PHP that it accepts."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any, Final

import msgspec
from msgspec.structs import replace

from fundamentum.catalog import branch_key
from fundamentum.catalog.quantity import switch
from fundamentum.changes.packages import Install
from fundamentum.changes.web_switch import SwitchOn
from fundamentum.kinds.base import Context, Kind
from fundamentum.kinds.php.build import BuildNeed, judged_build
from fundamentum.kinds.php.elsewhere import elsewhere
from fundamentum.kinds.php.reachability import unserved, way_in
from fundamentum.kinds.php.unseen_php import for_stray, stray_site
from fundamentum.kinds.settings.deciding_place import line_of_site
from fundamentum.kinds.table_reader import Reader, Table
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.constraints import version_range
from fundamentum.model.findings import Finding, State, Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import PhpNeed
from fundamentum.model.needs_value import NotUnderstood, Text
from fundamentum.model.origin import Origin
from fundamentum.model.promises import Promise
from fundamentum.model.survey import Site, Survey
from fundamentum.model.versions import VersionRange
from fundamentum.platforms.offers import Offers
from fundamentum.webservers import names, webserver

_BRANCH: Final = lazy_regex(r"\d+\.\d+\+?")


class PhpTable(Table):
    """Which PHP it runs on."""

    version: Annotated[
        Text | None,
        msgspec.Meta(description='Comparisons that must all hold: ">=8.1, <8.5"; | separates alternatives.'),
    ] = None
    preferred: Annotated[
        Text | None, msgspec.Meta(description='The branch to choose where several fit: "8.3"; "8.3+": or a later one.')
    ] = None
    bits: Annotated[int | None, msgspec.Meta(description="The size of its numbers: 64 or 32.")] = None
    thread_safe: Annotated[bool | None, msgspec.Meta(description="Whether it has to be a thread-safe build.")] = None


class Php(Kind[PhpNeed | BuildNeed]):
    """PHP itself, and the way of a request to it."""

    prefixes = ("php",)
    order = 0
    tables = {"php": PhpTable}
    group = "PHP"
    on_command_line = True

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[PhpNeed | BuildNeed]:
        table = tables["php"]
        try:
            accepted = version_range(table.version) if table.version else VersionRange()
        except NotUnderstood as error:
            raise reader.error(["php", "version"], str(error)) from error
        if accepted.contradictory():
            raise reader.error(["php", "version"], f"no PHP version can satisfy '{accepted}'")
        if table.preferred is not None:
            place = ["php", "preferred"]
            if not _BRANCH.fullmatch(table.preferred):
                raise reader.error(place, f"'{table.preferred}' is no branch; write for example \"8.3\"")
            if not accepted.accepts_branch(table.preferred.rstrip("+")):
                raise reader.error(place, f"preferred {table.preferred} contradicts version '{accepted}'")
        yield PhpNeed(accepted, table.preferred)
        if table.bits is not None:
            if table.bits not in (32, 64):
                reader.refuse(["php", "bits"], f"no PHP has {table.bits} bits; write 64 or 32")
            yield BuildNeed("bits", table.bits)
        if table.thread_safe is not None:
            yield BuildNeed("thread_safe", int(table.thread_safe))

    def judge(self, need: PhpNeed | BuildNeed, context: Context) -> Finding:
        """The version, then whatever keeps requests from being answered by it: the first thing that does."""
        if isinstance(need, BuildNeed):
            return judged_build(need, context)
        survey, target, site = context.survey, context.target, context.site
        finding = _answered(way_in(_version(need, context), survey, target, site), survey, target, site)
        for name in names():
            finding = webserver(name).handed(finding, survey, target, context.offers.package)
        finding = unserved(finding, survey, target) if site is None else finding
        change = finding.switch
        packages = (name for name in (finding.package, change.package if change else None) if name)
        switches = (SwitchOn(replace(change, package=None)),) if change else ()
        return replace(finding, demands=(*map(Install, packages), *switches, *finding.demands))

    def words(self, need: NeedId) -> str:
        return {"php:bits": "64-bit PHP", "php:thread_safe": "build of PHP"}.get(need, "PHP")

    def promised(self, finding: Finding, context: Context) -> Iterator[Promise]:
        if finding.need == "php":
            yield Promise(finding.need, "version", "", context.target.runtime.branch)

    def met_in_words(self, finding: Finding) -> str:
        return finding.found or ""


def _answered(finding: Finding, survey: Survey, target: Target, site: Site | None) -> Finding:
    """The finding about PHP itself, with what keeps every request of the site from being answered by it."""
    if site is None or finding.verdict != "met":
        return finding
    engine = target.runtime.settings.get("engine")
    if target.runtime.sapi == "apache2" and engine and engine.value is not None and not switch(engine.value):
        actual = f"PHP is switched off for {site.name}, and its source is handed out"
        remedy = f"switch engine on at {engine.origin}"
        change = line_of_site("engine", engine, "1", target.runtime, survey) if engine.set_by == "site" else None
        words: dict[str, Any] = {"found": actual, "origin": engine.origin, "remedy": remedy}
        demands = (change,) if change else ()
        return replace(finding, verdict="unmet", state="switched-off", demands=demands, **words)
    return finding


def _version(need: PhpNeed, context: Context) -> Finding:
    """The PHP version of the runtime, and whether it is there at all."""
    survey, target, offers = context.survey, context.target, context.offers
    runtime = target.runtime
    base = Finding(
        need=need.key,
        level="required",
        verdict="met",
        wanted=str(need.versions),
        found=runtime.version or runtime.branch,
        origin=Origin(runtime.program) if runtime.program else None,
    )
    if stray := stray_site(survey, target):
        return for_stray(base, survey, target, stray, offers)
    others = [branch for branch in other_branches(survey, need.versions, offers) if branch != runtime.branch]
    instead = f"the application accepts PHP {', '.join(others)}, which this server has or offers" if others else ""
    accepted = (
        need.versions.accepts(runtime.version) if runtime.version else need.versions.accepts_branch(runtime.branch)
    )
    offer = None if target.present else offers.runtime_package(runtime.branch, runtime.sapi)
    if not accepted:
        state: State = "other-branch" if others else "unobtainable"
        package = offer.name if offer and target.wanted else None
        instead = instead or elsewhere(need.versions, context)
        return replace(base, verdict="unmet", state=state, remedy=instead, subject=runtime.sapi, package=package)
    if not target.present:
        return replace(
            base,
            verdict="unmet",
            state="installable",
            found="not installed",
            subject=runtime.sapi,
            package=offer.name if offer else None,
            remedy=f"install {offer.name} ({offer.source})" if offer else _unseen(offers),
        )
    return base


def _unseen(offers: Offers) -> str:
    """What comes before PHP can be installed, where no index tells of one."""
    if offers.complete:
        return "install PHP"
    return f"run {offers.platform.refresh} on the server first, and survey it again: no package index offers PHP here"


def other_branches(survey: Survey, versions: VersionRange, offers: Offers) -> list[str]:
    """Installed or offered branches that the application accepts, newest first."""
    branches = {runtime.branch for runtime in survey.runtimes} | set(offers.branches("fpm"))
    return sorted((branch for branch in branches if versions.accepts_branch(branch)), key=branch_key, reverse=True)


KIND = Php()
