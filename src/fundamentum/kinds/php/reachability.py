"""The way of a request to PHP, before anything that PHP itself has: whether what it passes is there and lets it pass.

Only what was seen is judged.  Where processes cannot be seen (an image, a root directory), what runs is left out.
"""

import posixpath
import shlex
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, Final, Literal

from msgspec.structs import replace

from fundamentum.changes.pool_option import SetPoolOption
from fundamentum.changes.service import Restart
from fundamentum.changes.web_command import CommandServer
from fundamentum.changes.web_lines import AddLines
from fundamentum.changes.web_switch import SwitchOn
from fundamentum.effective.file_access import WRITE
from fundamentum.effective.judged_sites import sites_of
from fundamentum.kinds.php.broken import Broken
from fundamentum.kinds.php.labels import labelled
from fundamentum.kinds.php.seen_by_service import scripts_in_sight, socket_in_sight
from fundamentum.kinds.php.way_to_scripts import (
    document_root,
    fenced_out,
    not_in_another_root,
    of_an_ending_that_is_run,
    of_web_server,
    prepended,
    shut_in,
)
from fundamentum.kinds.settings.deciding_place import pool_addition
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Finding, LinkedSite, Switch, Target
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime
from fundamentum.model.surrounding_facts import Barrier, UnknownLine
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms import platform
from fundamentum.webservers import OTHER_PACKAGES, webserver

_NO_NAME: Final = lazy_regex(r"[^A-Za-z0-9_-]")
UNSEEN: Final = "what runs was not seen: judged by the files"


def way_in(finding: Finding, survey: Survey, target: Target, site: Site | None) -> Finding:
    """The finding about PHP itself, with the first thing on the way that keeps requests from being answered."""
    if site is None or finding.verdict != "met" or not target.present or target.beside:
        return finding
    for link in LINKS:
        way = site.way if link in IN_FRONT else (site,)
        if broken := next((broken for site in way for broken in link(survey, target, site)), None):
            if target.named:
                return replace(finding, remark=f"{broken.found}: {broken.remedy}")
            origin = broken.origin or finding.origin
            words: dict[str, Any] = {"found": broken.found, "remedy": broken.remedy, "demands": broken.changes}
            return replace(finding, verdict="unknown" if broken.unknown else "unmet", origin=origin, **words)
    asides = [barrier.why for barrier in site.barriers if not (barrier.stops or barrier.unsure)]
    if lines := _unknown(site.refused, survey, site):
        asides.append(f"{webserver(site.server).title} would not start again: {lines[0].origin}: {lines[0].why}")
    if (refused := target.runtime.refused) is not None:
        asides.append(f"{target.runtime.service or 'it'} would not start again: {refused.why} ({refused.origin})")
    if survey.processes == "unseen" and not platform(survey.system.family).shows_a_visit:
        asides.append(UNSEEN)
    return replace(finding, remark="; ".join(asides)) if asides and not finding.remark else finding


def unserved(finding: Finding, survey: Survey, target: Target) -> Finding:
    """The finding about PHP itself where no web server hands anything to it, so that visitors never get that far."""
    runtime = target.runtime
    seen_by_visitors = platform(survey.system.family).shows_a_visit
    if finding.verdict != "met" or not target.present or runtime.sapi == "cli" or seen_by_visitors:
        return finding
    if target.wanted:  # one of several that could be taken: what would serve it is decided with it
        return finding
    if any(webserver(server.server).hands_all(server, runtime) for server in survey.web_servers or ()):
        return finding
    at = f" ({runtime.listen})" if runtime.listen else ""
    words = f"{finding.found}, but no web server hands anything to {runtime.label}"
    remedy = f"set up a site that a web server hands to it{at}"
    if could := next((site for site in survey.idle_sites if site.runtime == runtime.label and site.barriers), None):
        remedy = f"{could.barriers[0].remedy} (--runtime '{could.name}' plans all that {could.name} takes)"
    if target.named:
        if finding.switch or finding.remark:
            return finding  # what keeps a web server from it is said already
        return replace(finding, remark=f"no web server hands anything to {runtime.label}: {remedy}")
    others = [package.name for package in survey.installed or () if package.name in OTHER_PACKAGES]
    if others or survey.reader == "user":
        why = f"what {others[0]} does is not read here" if others else "not all can be read by a user other than root"
        look = f"{why}: look whether a web server hands the site to {runtime.label}{at}"
        return replace(finding, verdict="unknown", remedy=look)
    if stray := next((site for site in survey.sites if site.runtime is None), None):
        words = f"{stray.name} is handed to {stray.handler or 'a PHP'}, where no PHP is seen"
        remedy = f"hand it to {runtime.label}{at} at {stray.origin}, or let a PHP wait there"
        return replace(finding, verdict="unmet", found=words, remedy=remedy, origin=stray.origin)
    return replace(finding, verdict="unmet", found=words, remedy=remedy)


def _enabled(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether the web server reads the file that the site is set up in."""
    if site not in survey.idle_sites or site.set_up is None:
        return
    of, file = webserver(site.server), site.set_up.file
    link = LinkedSite(site.name, file, f"{of.enabled}/{posixpath.basename(file)}")
    switch = Switch(site.server, sites=(link,))
    actual = f"{site.name} is set up in {file}, which {of.title} does not read"
    yield Broken(actual, _in_commands(switch, "reload", survey), site.set_up, (SwitchOn(switch),))


def _in_commands(switch: Switch, verb: Literal["reload", "restart"], survey: Survey) -> str:
    """What switches parts of a web server on, and lets it take notice."""
    service = platform(survey.system.family)
    commands = [shlex.join(part.command) for part in webserver(switch.server).switching(switch)]
    return " && ".join((*commands, " ".join(service.service(verb, service.web_service(switch.server)))))


def _refused(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether the web server takes all lines of the files in the directories on the way to the site's."""
    if site.failing:
        yield Broken(
            f"every request of {site.name} fails: {site.failing}", "take that line out, or let the web server take it"
        )
    unknown = _unknown(site.unknown_lines, survey, site)
    yield from _lacking(f"every request of {site.name} fails", [line for line in unknown if line.module], survey, site)
    for line in unknown[:1]:
        actual = f"{line.why}; if none does, every request of {site.name} fails"
        yield Broken(actual, "ask the site for a page", line.origin, unknown=True)


def _unknown(lines: Iterable[UnknownLine], survey: Survey, site: Site) -> list[UnknownLine]:
    """The lines that the site's web server does not know, with the modules that it has now."""
    server = next((web_server for web_server in survey.web_servers or () if web_server.server == site.server), None)
    return [line for line in lines if server is None or line.module not in server.modules]


def _lacking(what: str, lines: Sequence[UnknownLine], survey: Survey, site: Site) -> Iterator[Broken]:
    """What comes of lines that need modules which are not loaded."""
    server = next((web_server for web_server in survey.web_servers or () if web_server.server == site.server), None)
    for line in lines[:1]:
        actual = f"{what}: {line.origin}: {line.why}"
        modules = tuple(refused.module for refused in lines if refused.module)
        if server and modules and all(refused.installed for refused in lines):
            switch = Switch(site.server, modules)
            yield Broken(actual, _in_commands(switch, "restart", survey), line.origin, (SwitchOn(switch),))
        else:
            remedy = (
                f"install what is missing of {', '.join(modules)} and let its configuration load it, or "
                if modules
                else ""
            )
            yield Broken(actual, f"{remedy}mend that line, or take it out", line.origin)


def _takes_its_own(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether the web server starts with its own files; what it has read by now, it has taken."""
    process = next((server for server in survey.servers if server.server == site.server), None)
    title, lines = webserver(site.server).title, _unknown(site.refused, survey, site)
    if process is None or process.started is None or survey.processes != "seen":
        yield from _lacking(f"{title} does not start", lines, survey, site)
        return
    # With what it has read before, it answers; but not for a site whose own file is none of that.
    own, read = {place.file for place in (site.set_up, site.origin) if place}, survey.read.get(site.server, ())
    new = [line for line in lines if line.origin.file in process.stale or line.origin.file not in read]
    if any(line.origin.file in own for line in new):
        yield from _lacking(f"{title} does not take its files", new, survey, site)


def _web_server(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether the web server runs."""
    process = next((server for server in survey.servers if server.server == site.server), None)
    if survey.processes == "seen" and process and process.started is None:
        of = platform(survey.system.family)
        service = of.web_service(site.server)
        actual = f"{webserver(site.server).title} is not running, so nothing answers for {site.name}"
        yield Broken(actual, " ".join(of.service("start", service)), changes=(Restart(service, "start"),))


def _stale(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether the web server has read what its files say of the site."""
    process = next((server for server in survey.servers if server.server == site.server), None)
    if process is None or not process.stale:
        return
    of = platform(survey.system.family)
    own = {place.file for place in (site.set_up, site.origin) if place}
    others = {site.set_up.file for site in survey.sites if site.set_up} - own
    changed = next((path for path in process.stale if path not in others), None)
    if changed:
        service = of.web_service(site.server)
        server = webserver(site.server)
        verb: Literal["reload", "restart"] = "reload" if server.rereads(changed) else "restart"
        actual = f"{changed} changed after {server.title} had read it, so it is not in effect for {site.name}"
        command = " ".join(of.service(verb, service))
        yield Broken(actual, command, Origin(changed), (Restart(service, verb),))


def _barred_by_rules(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether the web server's own configuration lets requests pass."""
    for barrier in site.barriers:
        if barrier.stops:
            commanded = CommandServer(site.server, _address(site), barrier) if barrier.commands else None
            changes = (commanded,) if commanded else tuple(_answering(barrier, survey, target)) if barrier.lines else ()
            yield Broken(f"{site.name}: {barrier.why}", barrier.remedy, barrier.origin, changes)
    for barrier in site.barriers:
        if barrier.unsure:
            yield Broken(f"{site.name}: {barrier.why}", barrier.remedy, barrier.origin, unknown=True)


def _address(site: Site) -> str:
    """A site, or a part of it, as it is named to a person."""
    return f"{site.name}{site.part or ''}"


def _answering(barrier: Barrier, survey: Survey, target: Target) -> Iterator[AddLines]:
    """Lines that answer what stops requests for a site."""
    for site in (part for visited in sites_of(survey, target) for part in visited.way):
        if barrier in site.barriers:
            folder = platform(survey.system.family).web_additions.get(site.server)
            if (barrier.general or site.spot is None) and folder:
                file = f"{folder}/zz-{_NO_NAME.sub('-', site.name)}.conf"
                yield AddLines(site.server, site.name, barrier.lines, None, file, barrier)
            elif (spot := barrier.spot or site.spot) and spot.text and not barrier.general:
                yield AddLines(site.server, site.name, barrier.lines, spot, spot.file, barrier)
            return


def _takes_its_files(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether PHP's process manager starts with its files: one wrong line keeps all of its pools from starting."""
    runtime = target.runtime
    if runtime.refused and runtime.started is None:
        service = runtime.service or "the process manager"
        actual = f"{service} does not start: {runtime.refused.why} ({runtime.refused.origin})"
        yield Broken(actual, f"mend that line, and start {service}", runtime.refused.origin)


def _manager(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether PHP's process manager runs."""
    runtime = target.runtime
    if survey.processes != "seen" or runtime.sapi != "fpm" or runtime.started is not None:
        return
    service = runtime.service or "the process manager"
    command = " ".join(platform(survey.system.family).service("start", service)) if runtime.service else "start it"
    actual = f"{service} is not running, so {site.name} is answered with an error"
    yield Broken(actual, command, changes=(Restart(runtime.service, "start"),) if runtime.service else ())


def _waiting(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether the process manager waits where the pool's file says, which it does once it has read that."""
    runtime = target.runtime
    listen = runtime.listen or ""
    socket = next((place for place in survey.places if place.path == listen), None)
    if survey.processes == "seen" and runtime.sapi == "fpm" and runtime.service and socket and socket.kind == "absent":
        actual = (
            f"{runtime.service} does not wait at {listen}, as it has not read {runtime.pool_file} since that changed"
        )
        command = " ".join(platform(survey.system.family).service("restart", runtime.service))
        origin = Origin(runtime.pool_file) if runtime.pool_file else None
        yield Broken(actual, command, origin, (Restart(runtime.service),))


def _socket(survey: Survey, target: Target, site: Site) -> Iterator[Broken]:
    """Whether the web server's user may write to the pool's socket.  Source: php.net, listen.owner and listen.mode."""
    runtime, account = target.runtime, of_web_server(survey, site)
    if runtime.sapi != "fpm" or not (runtime.listen or "").startswith("/") or account is None or runtime.listen_open:
        return
    owner, group = runtime.listen_owner or "root", runtime.listen_group or "root"
    bits = runtime.listen_mode
    if owner == account.name:
        bits >>= 6
    elif group == account.group:
        bits >>= 3
    elif len(account.groups) > 1 and group != "root":
        return  # whether it is one of his other groups is not known by its name
    if not bits & WRITE:
        remedy = f"set listen.owner = {account.name} in {runtime.pool_file or 'the pool'} and restart {runtime.service}"
        actual = f"the socket {runtime.listen} is not open to {account.name}, as whom {site.server} works"
        origin = Origin(runtime.pool_file) if runtime.pool_file else None
        yield Broken(actual, remedy, origin, tuple(_opened(account.name, runtime)))


def _opened(user: str, runtime: Runtime) -> Iterator[SetPoolOption]:
    """The socket of a pool given to a user."""
    file = pool_addition(runtime, f"socket-{runtime.pool}", runtime.pool_file or "")
    if runtime.pool and file:
        yield SetPoolOption("listen.owner", runtime.listen_owner or "", user, file, runtime.label, runtime.pool, 0)


Link = Callable[[Survey, Target, Site], Iterator[Broken]]
LINKS: Final[tuple[Link, ...]] = (
    _enabled,
    _takes_its_own,
    _web_server,
    _stale,
    _refused,
    _barred_by_rules,
    _takes_its_files,
    _manager,
    _waiting,
    _socket,
    socket_in_sight,
    document_root,
    scripts_in_sight,
    labelled,
    shut_in,
    not_in_another_root,
    of_an_ending_that_is_run,
    fenced_out,
    prepended,
)
"""In the order in which a request meets them."""
IN_FRONT: Final = (_web_server, _stale, _barred_by_rules)
"""Those that are asked of web servers in front of the site's own, too."""
