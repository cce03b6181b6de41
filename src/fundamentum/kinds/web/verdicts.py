"""Whether a site is served as the application has to be: each thing that is wanted of the web server, judged."""

import shlex
from collections.abc import Callable, Mapping
from typing import Final

from msgspec.structs import replace

from fundamentum.changes.web_switch import SwitchOn
from fundamentum.effective.file_access import account_named
from fundamentum.kinds.base import Context
from fundamentum.kinds.web.need import LIST, NO_FILE, Aspect, WebNeed, address
from fundamentum.model.findings import AGAIN, Finding, Switch
from fundamentum.model.surrounding_facts import Visit, WebServer
from fundamentum.model.survey import Site
from fundamentum.platforms import platform
from fundamentum.webservers import webserver

_SET_UP: Final = "plan with --site NAME and --directory DIR sets one up"


def judged(need: WebNeed, context: Context) -> Finding:
    """The finding; nothing but that nothing is served can be said where no site is."""
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=_wanted(need))
    site = context.site
    if site is None and need.aspect == "served":
        return replace(base, verdict="unmet", found="no web site hands anything to it", remedy=_SET_UP)
    if site is None:
        return replace(base, found="there is no site to look at", remedy=_SET_UP)
    return _ASPECTS[need.aspect](need, base, site, context)


def _wanted(need: WebNeed) -> str:
    match need.aspect:
        case "served":
            return " | ".join(webserver(name).title for name in need.servers)
        case "module":
            return "there"
        case "deny":
            return "refused"
        case "listing":
            return "off"
        case "home":
            return "not the home of the web server's user"
    return need.value or "the application's directory"


def _served(need: WebNeed, base: Finding, site: Site, context: Context) -> Finding:
    title = webserver(site.server).title
    finding = replace(base, found=f"{title} ({site.name})", origin=site.set_up or site.origin)
    if not need.value or site.server in need.servers:
        return replace(finding, verdict="met")
    others = " or ".join(webserver(name).title for name in need.servers)
    return replace(finding, verdict="unmet", remedy=f"serve it by {others}: {_SET_UP}")


def _module(need: WebNeed, base: Finding, site: Site, context: Context) -> Finding:
    survey, of = context.survey, webserver(site.server)
    by_name = next((web_server for web_server in survey.web_servers or () if web_server.server == site.server), None)
    loading = next((server for server in survey.servers if server.server == site.server and server.modules), None)
    known = by_name or (WebServer(site.server, loading.modules) if loading else None)
    lacking = of.lacking([need.value], known)
    if lacking is None:
        look = f"look whether {of.title} has it: which modules it loads is not read here"
        return replace(base, found="not known", remedy=look)
    if not lacking:
        return replace(base, verdict="met", found=f"{of.title} has it")
    finding = replace(base, verdict="unmet", state="switched-off", found=f"{of.title} does not load it")
    if by_name is None:
        return replace(finding, remedy=f"let its configuration load the module {need.value}")
    change = SwitchOn(Switch(site.server, lacking))
    return replace(finding, remedy=change.words(context.offers), demands=(change,))


def _document_root(need: WebNeed, base: Finding, site: Site, context: Context) -> Finding:
    root = (site.root or "").rstrip("/")
    finding = replace(base, found=root or "not known", origin=site.set_up or site.origin)
    directive = webserver(site.server).root_directive or "the document root"
    if not root:
        return replace(finding, remedy=f"look what {directive} of {site.name} is")
    if not need.value or root.endswith(f"/{need.value}"):
        return replace(finding, verdict="met")
    there = _kind(f"{root}/{need.value}", context)
    if there == "directory":
        words = f"{root}, which is above it: everything of the application is within visitors' reach"
        remedy = f"set {directive} to {root}/{need.value}"
        return replace(finding, verdict="unmet", found=words, remedy=remedy)
    if there == "absent":
        return replace(finding, verdict="unmet", remedy=f"set {directive} to the application's {need.value}")
    return replace(finding, remedy=f"look whether {root}/{need.value} is there: {AGAIN}")


def _kind(path: str, context: Context) -> str:
    return next((place.kind for place in context.survey.places if place.path == path), "")


def _visit(path: str, site: Site) -> Visit:
    return site.visits.get(path, Visit("unclear"))


def _front_controller(need: WebNeed, base: Finding, site: Site, context: Context) -> Finding:
    visit = _visit(NO_FILE, site)
    finding = replace(base, origin=visit.origin)
    match visit.outcome:
        case "script" if visit.script.strip("/") == need.value:
            return replace(finding, verdict="met", found=f"{need.value} answers for what is no file")
        case "script":
            words = f"{visit.script.strip('/')} answers for what is no file"
        case "missing":
            words = "nothing answers for what is no file"
        case "refused":
            words = "what is no file is refused"
        case _:
            return _untold(finding, NO_FILE, f"whether {need.value} answers", site)
    return replace(finding, verdict="unmet", found=words, remedy=webserver(site.server).to_front(need.value))


def _deny(need: WebNeed, base: Finding, site: Site, context: Context) -> Finding:
    root = (site.root or "").rstrip("/")
    path = address(need.value, need.document_root)
    if need.document_root and not root.endswith(f"/{need.document_root}"):
        if _kind(f"{root}/{need.document_root}", context) != "directory":
            return replace(base, found="not known", remedy="see the document root, which is not as it should be")
        path = f"/{need.value}/"
    if path is None:
        return replace(base, verdict="met", found=f"not within the document root {root}")
    visit = _visit(path, site)
    finding = replace(base, origin=visit.origin)
    match visit.outcome:
        case "refused":
            return replace(finding, verdict="met", found="refused")
        case "unclear":
            return _untold(finding, path, "that it is refused", site)
        case "missing":
            return replace(finding, verdict="met", found="not handed out")
    words = {"script": "its PHP files are run", "handed-out": "its files are handed out"}[visit.outcome]
    return replace(finding, verdict="unmet", found=words, remedy=webserver(site.server).to_refuse(path))


def _listing(need: WebNeed, base: Finding, site: Site, context: Context) -> Finding:
    visit = _visit(LIST, site)
    finding = replace(base, origin=visit.origin)
    if visit.outcome == "unclear":
        return _untold(finding, LIST, "that no list of files comes", site)
    if visit.outcome == "handed-out":
        remedy = webserver(site.server).to_hide_lists()
        return replace(finding, verdict="unmet", found="lists of files are handed out", remedy=remedy)
    return replace(finding, verdict="met", found="off")


def _home(need: WebNeed, base: Finding, site: Site, context: Context) -> Finding:
    """What lies in a user's home is taken for his own: keys and settings of programs that he runs."""
    root = (site.root or "").rstrip("/")
    directory = root.removesuffix(f"/{need.document_root}") if need.document_root else root
    user = site.user or platform(context.survey.system.family).php_user
    account = account_named(context.survey, user, site.group if site.user else None) if user else None
    if not directory or account is None or not account.home:
        return replace(base, found="not known", remedy="see where the home of the web server's user is")
    if directory == account.home.rstrip("/"):
        remedy = f"put the application into a directory below {directory}, or elsewhere"
        return replace(base, verdict="unmet", found=f"{directory} is the home of {account.name}", remedy=remedy)
    return replace(base, verdict="met", found=directory)


def _untold(finding: Finding, path: str, what: str, site: Site) -> Finding:
    words = ["curl", "-sI", "-H", f"Host: {site.name}", f"http://127.0.0.1{path}"]
    tell = f"see {what}: {shlex.join(words)}"
    return replace(finding, found="depends on rules that are not followed here", remedy=tell)


_ASPECTS: Final[Mapping[Aspect, Callable[[WebNeed, Finding, Site, Context], Finding]]] = {
    "served": _served,
    "document_root": _document_root,
    "front_controller": _front_controller,
    "module": _module,
    "deny": _deny,
    "listing": _listing,
    "home": _home,
}
