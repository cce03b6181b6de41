"""What a server would be once an action has been carried out: a pure function on surveys.

This is how a plan proves itself: apply it, check again, and what is still unmet is what the plan must own up to.
"""

from collections.abc import Callable, Iterable
from typing import Literal, TypeVar

from msgspec.structs import replace

from fundamentum.catalog import api_number, directives_of, extension_files, facts, required_by
from fundamentum.check.offers import Market
from fundamentum.check.target import imagined
from fundamentum.model.actions import (
    Action,
    AddLine,
    AddLines,
    AddPool,
    Allow,
    Arrange,
    ChangeLine,
    Enable,
    Install,
    Manage,
    Restart,
    Schedule,
    Set,
    SwitchOn,
    Widen,
)
from fundamentum.model.layers import Assignment, Layer, Section
from fundamentum.model.origin import Origin, Overridden
from fundamentum.model.packages import Installed
from fundamentum.model.php import Branch, Loaded, Module, Runtime, Setting, too_early
from fundamentum.model.survey import Site, Survey
from fundamentum.plan import applied as around
from fundamentum.plan.pools import beside
from fundamentum.platforms import platform
from fundamentum.webservers import names, webserver

Place = TypeVar("Place", Layer, Section)


def apply(
    actions: Iterable[Action], survey: Survey, market: Market, along: Iterable[str] = (), removes: Iterable[str] = ()
) -> Survey:
    """The survey after these actions; ``along`` come as dependencies, ``removes`` go."""
    actions = list(actions)
    survey = _without(set(removes), survey)
    packages = [*along, *(action.package for action in actions if isinstance(action, Install))]
    for name in dict.fromkeys(packages):
        survey = _installed(name, survey, market)
    for action in actions:
        survey = _carried_out(action, survey)
    return survey


def _without(gone: set[str], survey: Survey) -> Survey:
    """The server without these packages: a way of running PHP whose package goes is gone too."""
    if not gone:
        return survey
    kept = tuple(one for one in survey.installed or () if one.name not in gone)
    lost = {
        (b.branch, sapi)
        for b in survey.branches
        for sapi, p in platform(survey.system.family).sapi_packages.items()
        if p.format(branch=b.branch) in gone
    }
    runtimes = tuple(one for one in survey.runtimes if (one.branch, one.sapi) not in lost)
    return replace(survey, installed=kept, runtimes=runtimes)


def _carried_out(action: Action, survey: Survey) -> Survey:
    match action:
        case Enable(extension, _, branch, sapi):
            return _each(survey, branch, lambda r: _loading(r, extension) if r.sapi == sapi and r.packaged else r)
        case AddLine(extension, _, file, label):
            like = next((r for r in survey.runtimes if r.label == label), None)
            same = [r.label for r in survey.runtimes if like and _reads(r, file, like)]
            changed = tuple(_loading(r, extension) if r.label in same else r for r in survey.runtimes)
            return replace(survey, runtimes=changed)
        case Set():
            return _set(action, survey)
        case ChangeLine():
            return _relined(action, survey)
        case Restart():
            return _restarted(action, survey)
        case AddPool():
            like = next((r for r in survey.runtimes if r.label == action.like), None)
            if like is None:
                return survey
            return replace(survey, runtimes=(*survey.runtimes, beside(like, action)))
        case SwitchOn():
            return _switched(action, survey)
        case AddLines():
            return replace(survey, sites=around.each_site(survey.sites, lambda site: _passable(site, action)))
        case Manage() | Widen() | Allow() | Arrange() | Schedule():
            return around.carried_out(action, survey)
        case Install():
            return survey  # all packages first, and together: see above


def _passable(site: Site, action: AddLines) -> Site:
    if action.spot is not None and site.spot != action.spot:
        return site
    return replace(site, barriers=tuple(one for one in site.barriers if one != action.barrier))


def _restarted(action: Restart, survey: Survey) -> Survey:
    """The server with a service that runs, and has read everything."""
    now = float(survey.taken or 1) if action.starts else None
    runtimes = tuple(
        replace(r, stale=(), answer=None, started=now or r.started) if r.service == action.service else r
        for r in survey.runtimes
    )
    of = platform(survey.system.family)
    servers = tuple(
        replace(one, started=now or one.started, stale=()) if of.web_service(one.server) == action.service else one
        for one in survey.servers
    )
    waited_at = {r.listen for r in runtimes if r.service == action.service}
    places = tuple(
        replace(one, kind="file") if one.kind == "absent" and one.path in waited_at else one for one in survey.places
    )
    return replace(survey, runtimes=runtimes, servers=servers, places=places)


def _switched(action: SwitchOn, survey: Survey) -> Survey:
    """The web server with its modules on; the runtime that one of them brings then serves the web."""
    servers = []
    for one in survey.web_servers or ():
        if one.server == action.server:
            modules = tuple(name for name in one.modules if name not in action.without)
            one = replace(
                one,
                modules=tuple(dict.fromkeys((*modules, *action.modules))),
                snippets=tuple(dict.fromkeys((*one.snippets, *action.snippets))),
            )
        servers.append(one)
    serving = webserver(action.server).serving(action)
    runtimes = tuple(
        replace(runtime, serves=True) if (runtime.branch, runtime.sapi) in serving else runtime
        for runtime in survey.runtimes
    )
    links = {one.file for one in action.sites}
    linked = [site for site in survey.idle_sites if site.set_up and site.set_up.file in links]
    handed = {site.runtime for site in linked}
    return replace(
        survey,
        web_servers=tuple(servers) if survey.web_servers is not None else None,
        runtimes=tuple(replace(one, serves=True) if one.label in handed else one for one in runtimes),
        sites=(*survey.sites, *linked),
        idle_sites=tuple(site for site in survey.idle_sites if site not in linked),
    )


def _reads(runtime: Runtime, file: str, like: Runtime) -> bool:
    """Whether this runtime reads the file that another one does."""
    folder = file.rpartition("/")[0]
    same_home = (runtime.branch, runtime.home) == (like.branch, like.home)
    return same_home and (runtime.scan_dir == folder if runtime.scan_dir else runtime.ini_file in (file, None))


def _each(survey: Survey, branch: str, change: Callable[[Runtime], Runtime]) -> Survey:
    return replace(survey, runtimes=tuple(change(r) if r.branch == branch else r for r in survey.runtimes))


def _installed(name: str, survey: Survey, market: Market) -> Survey:
    offer = market.package(name)
    if offer is None:
        return survey
    others = tuple(one for one in survey.installed or () if one.name != name)
    survey = around.with_commands(
        replace(survey, installed=(*others, Installed(name, offer.version, offer.provides))), name
    )
    survey = _with_web_server(name, survey)
    branch = market.branch_of(offer) or market.platform.branch_of(name)
    if branch is None:
        return survey
    for sapi, pattern in market.platform.sapi_packages.items():
        if name == pattern.format(branch=branch) and not any(
            r.branch == branch and r.sapi == sapi for r in survey.runtimes
        ):
            fresh = imagined(survey, branch, sapi)
            present = next((b for b in survey.branches if b.branch == branch), None)
            for module in present.modules if present else ():
                fresh = _loading(fresh, module.name) if not module.misfit else fresh
            sites = tuple(
                replace(site, runtime=fresh.label)
                if site.runtime is None and fresh.listen and site.handler.removeprefix("unix:") == fresh.listen
                else site
                for site in survey.sites
            )
            survey = replace(survey, runtimes=(*survey.runtimes, fresh), sites=sites)
    for extension in sorted(market.extensions_in(offer)):
        survey = _with_module(survey, branch, extension, name, market.collection_of(offer))
    return survey


def _with_web_server(package: str, survey: Survey) -> Survey:
    """The web server that a package brings, as it is once it is installed; one that is there stays as it is."""
    name = next((name for name in names() if webserver(name).package == package), None)
    if name is None or survey.web_servers is None or any(one.server == name for one in survey.web_servers):
        return survey
    return replace(survey, web_servers=(*survey.web_servers, webserver(name).fresh(name)))


def _with_module(survey: Survey, branch: str, extension: str, package: str, collection: str) -> Survey:
    known = extension_files(branch).get(extension)
    api = api_number(branch) or ""
    of = platform(survey.system.family)
    folder = of.extension_dir(api)
    same = (b for b in survey.branches if b.branch == branch and b.home.rpartition("/")[2] == collection)
    present = next(same, Branch(branch, api, folder))
    home = present.home
    module = Module(
        extension,
        known.shown if known else extension,
        f"{present.extension_dir}/{extension}.so",
        known.zend if known else False,
        package,
        of.switch_file(branch, extension),
    )
    found = {(b.branch, b.home): b for b in survey.branches}
    found[branch, home] = replace(present, modules=(*(m for m in present.modules if m.name != extension), module))
    survey = replace(survey, branches=tuple(found.values()))
    return _each(survey, branch, lambda r: _loading(r, extension) if r.home == home and r.packaged else r)


def _loading(runtime: Runtime, extension: str) -> Runtime:
    """The runtime with one more extension, and with the directives that come with it."""
    known = facts(runtime.branch)
    entry = extension_files(runtime.branch).get(extension)
    others = tuple(one for one in runtime.extensions if one.name != extension)
    new = Loaded(extension, entry.shown if entry else extension, Origin(f"{runtime.scan_dir}/20-{extension}.ini", 1))
    settings = dict(runtime.settings)
    for name in directives_of(runtime.branch).get(extension, ()):
        default = known.default(name, runtime.sapi)
        if name not in settings and default is not None:
            settings[name] = Setting(default)
    return replace(runtime, settings=settings, extensions=_settled((*others, new), runtime.branch))


def _settled(loaded: tuple[Loaded, ...], branch: str) -> tuple[Loaded, ...]:
    """Extensions that waited for another one load once that one does; one that lacks another does not."""
    for _ in range(len(loaded)):
        working = {one.name for one in loaded if one.fault is None}
        settled = tuple(_depending(one, required_by(one.name, branch) - working) for one in loaded)
        if settled == loaded:
            break
        loaded = settled
    return loaded


def _depending(one: Loaded, missing: frozenset[str]) -> Loaded:
    if missing and one.fault is None:
        return replace(one, fault=too_early(missing))
    if not missing and one.fault and one.fault.kind == "too-early":
        return replace(one, fault=None)
    return one


def _set(action: Set, survey: Survey) -> Survey:
    def change(runtime: Runtime) -> Runtime:
        same = (
            runtime.label == action.runtime
            if action.pool
            else f"{runtime.scan_dir}/" == action.file[: action.file.rfind("/") + 1]
            or (not runtime.scan_dir and runtime.label == action.runtime)
        )
        if not same or action.name not in runtime.settings:
            return runtime
        before = runtime.settings[action.name]
        if not action.pool and before.set_by != "ini":
            return runtime  # what is stronger than ini files stays as it is: this pool's own value, or another's
        lost = () if before.origin.built_in else (Overridden(before.origin, before.value),)
        by: Literal["pool", "ini"] = "pool" if action.pool else "ini"
        made = Setting(action.after, Origin(action.file, 1), lost, admin=action.admin, set_by=by)
        return replace(runtime, settings={**runtime.settings, action.name: made})

    return replace(survey, runtimes=tuple(change(r) for r in survey.runtimes))


def _relined(action: ChangeLine, survey: Survey) -> Survey:
    """What stands in that line has the new value, for every site and every runtime that it counts for.

    Its text stays as it is on the server: all changes of one line are made from that.
    """

    def change(one: Assignment) -> Assignment:
        return replace(one, value=action.after) if (one.name, one.spot) == (action.name, action.spot) else one

    def within(places: tuple[Place, ...]) -> tuple[Place, ...]:
        return tuple(replace(place, values=tuple(change(one) for one in place.values)) for place in places)

    sites = tuple(replace(site, layers=within(site.layers)) if site.layers else site for site in survey.sites)
    runtimes = tuple(replace(r, sections=within(r.sections)) if r.sections else r for r in survey.runtimes)
    return replace(survey, sites=sites, runtimes=runtimes)
