"""What is risky about a runtime, whatever an application needs: said last, and never in the way."""

import shlex
from collections.abc import Callable, Iterator
from datetime import date
from typing import Final

import msgspec

from fundamentum.catalog import security_ends
from fundamentum.catalog.quantity import switch
from fundamentum.effective.file_access import account_named
from fundamentum.effective.judged_sites import sites_of
from fundamentum.kinds import kind_of
from fundamentum.model.findings import Judgement, Target
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform
from fundamentum.webservers import webserver

PEOPLE: Final = 1000
"""The first number of users who are people.  Source: login.defs(5)."""
NOBODY: Final = 65534


class Risk(msgspec.Struct, frozen=True):
    """One thing worth a look."""

    about: str
    found: str
    why: str
    remedy: str
    origin: str = ""


def risks(survey: Survey, judgement: Judgement, today: date) -> tuple[Risk, ...]:
    """The risks of the runtime that is judged, and of its sites; none where it is not installed yet."""
    target = judgement.target
    if not target.present:
        return ()
    of_runtime = (risk for rule in RULES for risk in rule(target.runtime, today))
    return (*of_runtime, *_met_riskily(judgement), *_exposed(survey, target), *_around(survey, target))


def _around(survey: Survey, target: Target) -> Iterator[Risk]:
    """Enforcement, the firewall, as whom the web server works, files of sites that it does not read."""
    yield from _unenforced(survey)
    path, off = platform(survey.system.family).firewall_off
    answer = survey.answers.get(f"text:{path}") if path else None
    if answer and off in answer.lines:
        why = "whatever waits at any port of this server can be reached from anywhere"
        remedy = "let in what visitors and administrators use, then switch it on"
        yield Risk("firewall", f"installed, and off ({off})", why, remedy, path)
    for site in sites_of(survey, target):
        account = account_named(survey, site.user) if site.user else None
        if account and PEOPLE <= account.user < NOBODY:
            title = webserver(site.server).title
            why = f"what gets {title} to run something has everything that {account.name} has"
            remedy = f"let {title} work as a user of its own, as its package has it"
            yield Risk("web server's user", f"{title} works as {account.name}", why, remedy)
            break
    for site in survey.idle_sites:
        file = site.set_up.file if site.set_up else ""
        if not file or site.name == "default":  # packages bring such
            continue
        title = webserver(site.server).title
        why = f"{title} does not read it: what is written there for {site.name} has no effect"
        yield Risk("site file", file, why, "switch the site on, or take the file away", file)


def _met_riskily(judgement: Judgement) -> Iterator[Risk]:
    """Needs that are met in a way that should not stay so."""
    for finding in judgement.all_findings:
        why, remedy = kind_of(finding.need).risky(finding)
        if why:
            yield Risk(finding.need, finding.found or "", why, remedy, str(finding.origin or ""))


def _exposed(survey: Survey, target: Target) -> Iterator[Risk]:
    """What lies in the document roots of the runtime's sites, or can be changed by everybody."""
    roots = {site.root for site in sites_of(survey, target)}
    for exposed in survey.exposed:
        if exposed.root not in roots:
            continue
        why, remedy = _EXPOSED[exposed.kind]
        and_more = f" and {exposed.others} more" if exposed.others else ""
        quoted = shlex.quote(exposed.path)
        yield Risk(
            f"{exposed.kind.replace('-', ' ')}",
            f"{exposed.path}{and_more}",
            why,
            remedy.format(path=quoted),
            exposed.root,
        )


_EXPOSED: Final = {
    "world-writable": (
        "every program and every user of the server may change what this application runs or shows",
        "chmod o-w {path}, and give what has to be written to the application's own user",
    ),
    "information-page": (
        "it shows every visitor the versions, paths and environment variables, passwords among them",
        "remove {path}",
    ),
    "installer": (
        "whoever finds it may set the application up anew, with himself as its administrator",
        "remove {path} once the application is installed",
    ),
    "not-for-visitors": (
        "visitors can fetch it: it tells of versions, source or passwords",
        "let the document root be the part of the application that is meant for it, or deny access to {path}",
    ),
}


def _unenforced(survey: Survey) -> Iterator[Risk]:
    """SELinux that only warns.  Source: the distribution's own default is to enforce."""
    if survey.machine.permissive:
        yield Risk(
            "SELinux",
            "permissive",
            "its rules are written down, and broken without hindrance",
            "label the directories that need it (see the directories of the plan), then setenforce 1",
        )


def _shown_errors(runtime: Runtime, today: date) -> Iterator[Risk]:
    """The manual: this is a feature to support development and should never be used on production systems."""
    setting = runtime.settings.get("display_errors")
    if runtime.sapi == "cli" or setting is None or setting.value is None:
        return
    if switch(setting.value) or setting.value.lower() == "stdout":
        yield Risk(
            "setting:display_errors",
            setting.value,
            "visitors see error messages, with paths and parts of queries in them",
            _set("display_errors", "Off", runtime),
            str(setting.origin),
        )


def _remote_code(runtime: Runtime, today: date) -> Iterator[Risk]:
    """``include 'https://...'`` runs what another server sends."""
    setting = runtime.settings.get("allow_url_include")
    if setting is not None and setting.value is not None and switch(setting.value):
        yield Risk(
            "setting:allow_url_include",
            setting.value,
            "one unchecked include is enough to run code from another server",
            _set("allow_url_include", "Off", runtime),
            str(setting.origin),
        )


def _unsupported(runtime: Runtime, today: date) -> Iterator[Risk]:
    """The PHP project's own dates; a distribution may go on fixing its packages."""
    ends = security_ends(runtime.branch)
    if ends is not None and ends < today:
        yield Risk(
            "php",
            runtime.branch,
            f"the PHP project stopped fixing security problems in {runtime.branch} on {ends}; a distribution may go on",
            "find out whether your distribution still maintains it, or move to a newer branch",
            runtime.program or "",
        )


def _set(name: str, value: str, runtime: Runtime) -> str:
    place = runtime.settings[name].origin.set_in or runtime.ini_place
    return f"set {name} = {value} in {place}"


RULES: Final[tuple[Callable[[Runtime, date], Iterator[Risk]], ...]] = (_shown_errors, _remote_code, _unsupported)
