"""Which runtime is judged.  Never silently the command line's, and never one of several by guessing."""

import re
from collections.abc import Sequence
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog import known_branches
from fundamentum.catalog.releases import releases
from fundamentum.effective.file_access import inside
from fundamentum.effective.fresh_runtime import fresh_runtime
from fundamentum.errors import ChoiceNeeded, FundamentumError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Target
from fundamentum.model.needs import Needs
from fundamentum.model.php import SAPIS, Runtime, Sapi
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms.offers import Offers

_SELECTOR: Final = lazy_regex(r"(?P<branch>\d+\.\d+)(?:/(?P<sapi>[a-z0-9]+)(?:/(?P<pool>[A-Za-z0-9_.-]+))?)?")


def choose(survey: Survey, needs: Needs, selector: str | None, offers: Offers) -> Target:
    """The runtime that ``selector`` names, or else the one that serves the web."""
    if selector is not None:
        return _selected(survey, selector, needs, offers)
    names = list(dict.fromkeys(site.name for site in survey.sites))
    if len(names) > 1:
        raise ChoiceNeeded(
            f"{survey.server}: several sites are here; choose one with --runtime: {_listed(survey, names)}"
        )
    idle = list(dict.fromkeys(site.name for site in survey.idle_sites if site.runtime))
    if not names and len(idle) == 1 and (only := _of_site(survey, idle[0], needs, offers)):
        read = any(site.set_up for site in survey.idle_sites if site.name == idle[0])
        why = "not read by its web server" if read else "not handed to PHP yet"
        return replace(only, reason=f"{idle[0]} is the only site that is set up here, and {why}")
    if not names and len(idle) > 1:
        listed = ", ".join(idle[:20])
        raise ChoiceNeeded(
            f"{survey.server}: no site is handed to PHP yet; choose one that could be with --runtime: {listed}"
        )
    if names and all(site.runtime is None for site in survey.sites):
        return _stray(survey, needs, survey.sites[0], offers)
    serving = [runtime for runtime in survey.runtimes if runtime.serves]
    if (
        len(serving) > 1
        and any(site.first_page == "here" for site in survey.sites)
        and (only := _of_site(survey, names[0], needs, offers))
    ):
        return only
    if len(serving) == 1:
        return Target(serving[0], "the only runtime here that serves the web" + _sites_of(survey, serving[0]))
    if serving:
        labels = ", ".join(runtime.label + _sites_of(survey, runtime) for runtime in serving)
        raise ChoiceNeeded(f"{survey.server}: several runtimes serve the web; choose one with --runtime: {labels}")
    return _fresh(survey, needs, offers)


def _listed(survey: Survey, names: Sequence[str]) -> str:
    """The first sites, each with the runtime that it is handed to."""
    handed = {name: [site.runtime or "unknown" for site in survey.sites if site.name == name] for name in names[:20]}
    and_more = f" and {len(names) - 20} more" if len(names) > 20 else ""
    return ", ".join(f"{name} ({' and '.join(dict.fromkeys(to))})" for name, to in handed.items()) + and_more


def _sites_of(survey: Survey, runtime: Runtime) -> str:
    names = list(dict.fromkeys(site.name for site in survey.sites if site.runtime == runtime.label))
    and_more = f" and {len(names) - 3} more" if len(names) > 3 else ""
    return f" ({', '.join(names[:3])}{and_more})" if names else ""


def _of_site(survey: Survey, selector: str, needs: Needs, offers: Offers) -> Target | None:
    """The runtime that serves the site of that name, or the part of it named behind a blank; None if there is none."""
    name, _, part = selector.partition(" ")
    sites = [site for site in survey.sites if name in (site.name, *site.aliases) or site.name == selector]
    sites = sites or [site for site in survey.idle_sites if name in (site.name, *site.aliases) and site.runtime]
    sites = _of_part(sites, part)
    labels = {site.runtime for site in sites}
    if len(labels) > 1:
        parts = ", ".join(f"{site.part or site.origin}: {site.runtime or 'unknown'}" for site in sites)
        raise ChoiceNeeded(f"{survey.server}: several runtimes serve {name}; choose one with --runtime: {parts}")
    if sites and sites[0].runtime is None:
        return _stray(survey, needs, sites[0], offers)
    listed = next((runtime for runtime in survey.runtimes if runtime.label in labels), None)
    others = {site.runtime for site in survey.sites if name in (site.name, *site.aliases)} - labels
    reason = (
        f"; other parts of it are handed to {' and '.join(sorted(map(str, others - {None})))}"
        if others - {None}
        else ""
    )
    return Target(listed, f"it serves {name}, as {sites[0].origin} says{reason}", site=name) if listed else None


def _of_part(sites: list[Site], part: str) -> list[Site]:
    """The lines that hand on the part of a site that is named; or else those that a visitor's first request meets.

    Where that is not known, all that may be.
    """
    if named := [site for site in sites if part and site.part == part]:
        return named
    if first := [site for site in sites if site.first_page == "here"]:
        return first
    unclear = [site for site in sites if site.first_page == "unclear"]
    return unclear or [site for site in sites if site.part is None] or sites


def _stray(survey: Survey, needs: Needs, site: Site, offers: Offers) -> Target:
    """For a site that is handed to a PHP which is not there: the one that would be installed for it."""
    named = re.search(r"\d\.\d", site.handler)
    offered = offers.branches("fpm")
    fitting = [branch for branch in offered if needs.php.accepts_branch(branch)]
    branch = named[0] if named and named[0] in offered else [*fitting, *offered, known_branches()[-1]][0]
    to = f"{site.handler}, where none is seen" if site.handler else "a PHP that cannot be told"
    reason = f"{site.origin} hands {site.name} to {to}: judged as a fresh one"
    name = f"{site.name} {site.part or ''}".strip()
    return Target(fresh_runtime(survey, branch, "fpm"), reason + _not_for_web(survey), present=False, site=name)


def _not_for_web(survey: Survey) -> str:
    """That the PHP of the command line is not meant, where there is one."""
    names = ", ".join(runtime.label for runtime in survey.runtimes if runtime.sapi == "cli")
    return f" (the command line's {names} runs no web application)" if names else ""


def site_names(survey: Survey) -> set[str]:
    """All names of the sites that are there, or set up in files that their web server does not read."""
    return {name for site in (*survey.sites, *survey.idle_sites) for name in (site.name, *site.aliases)}


def sites_in(survey: Survey, folder: str) -> list[str]:
    """The names of the sites whose document root is this directory, or lies in it: those that are read, if any is."""
    for sites in (survey.sites, survey.idle_sites):
        if names := [site.name for site in sites if site.root and inside(site.root, folder)]:
            return list(dict.fromkeys(names))
    return []


def site_in(survey: Survey, directory: str) -> str:
    """The name of the one site whose document root is this directory, or lies in it; a clear error if there is none."""
    folder = directory.rstrip("/") or "/"
    names = sites_in(survey, folder)
    if not names:
        roots = ", ".join(dict.fromkeys(f"{site.name} ({site.root})" for site in survey.sites if site.root))
        raise FundamentumError(
            f"{survey.server}: no site has its document root in {folder}; there is {roots or 'none'}"
        )
    if len(names) > 1:
        listed = ", ".join(names)
        raise ChoiceNeeded(f"{survey.server}: several sites stand in {folder}; choose one with --runtime: {listed}")
    return names[0]


def _selected(survey: Survey, selector: str, needs: Needs, offers: Offers) -> Target:
    exact = next((runtime for runtime in survey.runtimes if runtime.label == selector), None)
    if exact:
        note = "; the command line runs no web application" if exact.sapi == "cli" else ""
        return Target(exact, f"named with --runtime{note}", named=True)
    if of_site := _of_site(survey, selector, needs, offers):
        return of_site
    match = _SELECTOR.fullmatch(selector)
    if not match or match["sapi"] not in (None, *SAPIS):
        sites = ", ".join(dict.fromkeys(site.name for site in survey.sites))
        raise FundamentumError(
            f"--runtime {selector}: write BRANCH[/SAPI[/POOL]], such as 8.2/fpm/www (SAPI is one of "
            f"{', '.join(SAPIS)}), or the name of a web site here ({sites or 'none was found'})"
        )
    of_branch = [runtime for runtime in survey.runtimes if runtime.branch == match["branch"]]
    runtimes = [r for r in of_branch if match["sapi"] in (None, r.sapi) and match["pool"] in (None, r.pool)]
    if match["sapi"] is None:
        runtimes = [runtime for runtime in runtimes if runtime.serves]  # the command line only if it is named
    if len(runtimes) == 1:
        note = "; the command line runs no web application" if runtimes[0].sapi == "cli" else ""
        return Target(runtimes[0], f"named with --runtime{note}", named=True)
    if runtimes:
        labels = ", ".join(runtime.label for runtime in runtimes)
        raise ChoiceNeeded(f"{survey.server}: --runtime {selector} fits several; choose one: {labels}")
    sapi: Sapi = match["sapi"] or "fpm"
    if match["pool"] and any(runtime.sapi == sapi for runtime in of_branch):
        labels = ", ".join(runtime.label for runtime in of_branch if runtime.sapi == sapi)
        raise FundamentumError(
            f"{survey.server}: no pool '{match['pool']}' in PHP {match['branch']}; there is {labels}"
        )
    if offers.known and offers.runtime_package(match["branch"], sapi) is None:
        offered = ", ".join(offers.branches(sapi)) or "none"
        raise FundamentumError(
            f"{survey.server}: PHP {match['branch']} ({sapi}) is neither installed nor offered here; offered: {offered}"
        )
    return Target(
        fresh_runtime(survey, match["branch"], sapi),
        "named with --runtime; not installed yet, judged as a fresh installation",
        present=False,
        named=True,
    )


def _fresh(survey: Survey, needs: Needs, offers: Offers) -> Target:
    """No runtime serves the web: the one that would be installed is judged."""
    sapi: Sapi = "fpm"
    offered = offers.branches(sapi)
    fitting = [branch for branch in offered if needs.php.accepts_branch(branch)]
    if not offered and offers.platform.packaged and not (survey.offers and offers.complete):
        return _without_indexes(survey, needs, offers)
    if not offered:
        present = ", ".join(runtime.label for runtime in survey.runtimes) or "no PHP at all"
        raise FundamentumError(
            f"{survey.server}: no PHP here serves the web and no package index offers any; there is: {present}. "
            "Name one of these with --runtime, or refresh the package indexes on the server and survey it again"
        )
    installed = {runtime.branch for runtime in survey.runtimes}
    preferred = needs.preferred if needs.preferred in fitting else None
    branch = next((b for b in fitting if b in installed), None) or preferred or (fitting[0] if fitting else offered[0])
    reason = f"no PHP here serves the web; judged as a fresh installation of it would be{_not_for_web(survey)}"
    return Target(fresh_runtime(survey, branch, sapi), reason, present=False)


def _without_indexes(survey: Survey, needs: Needs, offers: Offers) -> Target:
    """No package index tells what could be installed: the PHP that the release itself carries is judged."""
    system = survey.system
    own = next(
        (release for release in releases() if (release.id, release.version) == (system.id, system.release)), None
    )
    accepted = [branch for branch in known_branches() if needs.php.accepts_branch(branch)]
    branch = [*(own.branches[-1:] if own else ()), *accepted[-1:], known_branches()[-1]][0]
    reason = f"no package index here offers any PHP: {offers.platform.refresh} comes first; judged as a fresh one of "
    reason += f"this release would be{_not_for_web(survey)}"
    return Target(fresh_runtime(survey, branch, "fpm"), reason, present=False)


def command_line(survey: Survey, target: Target) -> Target:
    """The PHP that programs are run with at set times: that of the branch which serves the web."""
    runtime = target.runtime
    same = (
        served_by
        for served_by in survey.runtimes
        if served_by.sapi == "cli" and (served_by.branch, served_by.home) == (runtime.branch, runtime.home)
    )
    reason = "runs the programs of the application at set times"
    if listed := next(same, None):
        return Target(listed, reason, wanted=target.wanted)
    return Target(
        fresh_runtime(survey, runtime.branch, "cli"), f"{reason}, once it is installed", False, wanted=target.wanted
    )
