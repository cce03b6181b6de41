"""What a server would be once changes have been carried out: a pure function on surveys.

This is how a plan proves itself: apply it, check again, and what is still unmet is what the plan must own up to.
"""

from collections.abc import Iterable

from msgspec.structs import replace

from fundamentum.changes.base import Change
from fundamentum.changes.packages import Install
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform
from fundamentum.platforms.offers import Offers
from fundamentum.webservers import names, webserver


def apply(
    changes: Iterable[Change], survey: Survey, offers: Offers, along: Iterable[str] = (), removes: Iterable[str] = ()
) -> Survey:
    """The survey after these changes; ``along`` come as dependencies, ``removes`` go."""
    ordered = sorted([*map(Install, along), *changes], key=lambda change: not change.FIRST)
    survey = _without(set(removes), survey)
    for change in {change.key: change for change in ordered}.values():
        survey = change.applied(survey, offers)
    return survey


def _without(gone: set[str], survey: Survey) -> Survey:
    """The server without these packages: a way of running PHP, and a web server, whose package goes is gone too."""
    if not gone:
        return survey
    kept = tuple(package for package in survey.installed or () if package.name not in gone)
    lost = {
        (known.branch, sapi)
        for known in survey.branches
        for sapi, pattern in platform(survey.system.family).sapi_packages.items()
        if pattern.format(branch=known.branch) in gone
    }
    runtimes = tuple(runtime for runtime in survey.runtimes if (runtime.branch, runtime.sapi) not in lost)
    return _unserved(gone, replace(survey, installed=kept, runtimes=runtimes))


def _unserved(gone: set[str], survey: Survey) -> Survey:
    """The server without the sites of web servers of which no package is left."""
    left = {package.name for package in survey.installed or ()}
    brought = {name: set(webserver(name).packages) for name in names()}
    ended = {name for name, packages in brought.items() if packages & gone and not packages & left}
    if not ended:
        return survey
    sites = tuple(site for site in survey.sites if site.server not in ended)
    reached = {site.runtime for site in sites}
    runtimes = tuple(
        replace(runtime, serves=runtime.serves and runtime.label in reached) for runtime in survey.runtimes
    )
    servers = tuple(web_server for web_server in survey.web_servers or () if web_server.server not in ended)
    idle = tuple(site for site in survey.idle_sites if site.server not in ended)
    return replace(survey, sites=sites, idle_sites=idle, runtimes=runtimes, web_servers=servers)
