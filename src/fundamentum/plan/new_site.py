"""A site that is not there yet: behind which web server it comes, and what it takes on each PHP that could serve it."""

import posixpath
import re
from collections.abc import Iterator, Sequence
from typing import Final

import msgspec
from msgspec.structs import replace

from fundamentum.catalog.quantity import quantity
from fundamentum.changes.base import Change
from fundamentum.changes.packages import Install
from fundamentum.changes.pool import AddPool
from fundamentum.changes.service import Restart
from fundamentum.changes.site import ADDRESS, AddSite, has_server
from fundamentum.changes.web_limit import WidenLimit
from fundamentum.changes.web_switch import SwitchOn
from fundamentum.errors import ChoiceNeeded, FundamentumError
from fundamentum.kinds.web.need import LIST, NO_FILE, WebNeed, address
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Switch, Target
from fundamentum.model.needs import Needs
from fundamentum.model.php import Runtime
from fundamentum.model.reason import Reason
from fundamentum.model.safe_text import is_path
from fundamentum.model.survey import Survey
from fundamentum.plan.branch_choice import Candidate, candidates
from fundamentum.plan.separate_pools import own_pool
from fundamentum.plan.settled import Settled
from fundamentum.platforms import platform
from fundamentum.platforms.offers import Offers
from fundamentum.webservers import for_sites, webserver
from fundamentum.webservers.base import NewSite
from fundamentum.webservers.limits import of_new_site

_NAME: Final = lazy_regex(r"(?=.{1,253}$)[a-z0-9](?:[a-z0-9-]*[a-z0-9])?(?:\.[a-z0-9](?:[a-z0-9-]*[a-z0-9])?)*")

_ADDRESS: Final = lazy_regex(r"(?:\*|[0-9.]+|\[[0-9a-f:]+\]|localhost):80")
_SOCKET: Final = lazy_regex(r"/[A-Za-z0-9_./-]+|[A-Za-z0-9.-]*:?[0-9]+|\[[0-9a-fA-F:]+\]:[0-9]+")
"""Paths and addresses that no configuration language takes for anything else."""


class WantedSite(msgspec.Struct, frozen=True):
    """The site that is to be set up for an application."""

    name: str
    directory: str
    """Where the application stands, or will."""
    server: str
    addresses: tuple[str, ...] = ()


def with_web(needs: Needs) -> Needs:
    """The application with the need of a web server, if its needs file does not speak of any."""
    return needs if needs.of(WebNeed) else replace(needs, needs=(*needs.needs, WebNeed("served")))


def wanted(survey: Survey, needs: Needs, name: str, directory: str, server: str | None, offers: Offers) -> WantedSite:
    """What the options come to.  ``server`` as a needs file names it.  Raises errors in words for the user."""
    if not _NAME.fullmatch(name):
        raise FundamentumError(f"--site {name}: is no site here, and no host name that a new one could have")
    folder = posixpath.normpath(directory)
    if not is_path(folder) or folder == "/" or not re.fullmatch(r"[A-Za-z0-9_.@+/-]+", folder):
        raise FundamentumError(f"--directory {directory}: write the whole path of the application's directory")
    chosen = _server(survey, _served_by(needs), _named(server))
    if chosen not in platform(survey.system.family).web_sites:
        title = platform(survey.system.family).title
        raise FundamentumError(f"--site {name}: is no site here, and how one is set up is not known for: {title}")
    if not has_server(survey, chosen) and not _package(chosen, offers):
        title = webserver(chosen).title
        raise FundamentumError(f"{survey.server}: {title} is neither installed nor offered here")
    for file in filter(None, _files(survey, chosen, name)):
        if survey.marks.get(file, "absent") != "absent":
            raise FundamentumError(f"--site {name}: {file} is there already, and hands nothing to PHP: see what it is")
    return WantedSite(name, folder, chosen, _addresses(survey, chosen))


def _addresses(survey: Survey, server: str) -> tuple[str, ...]:
    """Where other sites of the web server wait at port 80, if any of them does so at an address of its own.

    Source: nginx's documentation, "How nginx processes a request"; Apache's, "An In-Depth Discussion of Virtual Host
    Matching": what comes at such an address is for the sites there only.
    """
    addresses = dict.fromkeys(
        site.address.lower().replace("_default_", "*").replace("0.0.0.0", "*").replace("[::]", "*")
        for site in survey.sites
        if site.server == server and not site.secure and site.address
    )
    at_port = [address for address in addresses if address.endswith(":80")]
    if addresses and not at_port:
        title, where = webserver(server).title, ", ".join(addresses)
        raise FundamentumError(
            f"{survey.server}: {title} waits at {where}, and not at port 80: set the site up by hand"
        )
    own = [address for address in at_port if address != ADDRESS]
    return tuple(address for address in at_port if _ADDRESS.fullmatch(address)) if own else ()


def _served_by(needs: Needs) -> tuple[str, ...]:
    served = next((need for need in needs.of(WebNeed) if need.aspect == "served"), WebNeed("served"))
    return served.servers


def _named(server: str | None) -> str | None:
    if server is not None and server not in for_sites():
        raise FundamentumError(f"--web-server {server}: is none that is known here: {', '.join(for_sites())}")
    return for_sites()[server] if server else None


def _server(survey: Survey, accepted: Sequence[str], named: str | None) -> str:
    """The web server that is named, else the one that is there, else the one that the application prefers."""
    there = [server for server in for_sites().values() if has_server(survey, server)]
    fitting = [server for server in there if server in accepted]
    if named:
        if others := [server for server in there if server != named and named not in there]:
            title, other = webserver(named).title, webserver(others[0]).title
            why = (
                f"{other} is here, and two web servers cannot both wait at port 80: leave it out, or decide which goes"
            )
            raise FundamentumError(f"--web-server: {title} is not here; {why}")
        return named
    if len(fitting) > 1:
        running = [
            process.server for process in survey.servers if process.started is not None and process.server in fitting
        ]
        if len(running) != 1:
            raise ChoiceNeeded(f"{survey.server}: several web servers are here; choose one with --web-server")
        return running[0]
    if there and not fitting:
        here, titles = webserver(there[0]).title, " or ".join(webserver(name).title for name in accepted)
        raise FundamentumError(
            f"{survey.server}: {here} is here, and the application wants {titles}: decide which goes"
        )
    return fitting[0] if fitting else accepted[0]


def _package(server: str, offers: Offers) -> str:
    return next((name for name in webserver(server).packages if offers.package(name)), "")


def _files(survey: Survey, server: str, name: str) -> tuple[str, str]:
    """The file of a site, and the link to it; empty where it needs none."""
    of = platform(survey.system.family)
    folder, links = of.web_sites[server]
    if server in of.web_folders and any(place.path == links and place.kind == "absent" for place in survey.places):
        folder, links = (of.web_folders[server], "") if has_server(survey, server) else (folder, links)
    file = _file_name(survey, server, name, links or folder, all_sites=bool(links))
    return f"{folder}/{file}", f"{links}/{file}" if links else ""


def _file_name(survey: Survey, server: str, name: str, folder: str, *, all_sites: bool) -> str:
    """A name that comes behind the first site's: what nobody answers for by name, that one goes on answering.

    Source: nginx's documentation of ``listen`` (``default_server``); Apache's, "An In-Depth Discussion of Virtual Host
    Matching".  ``all_sites``: every file in the folder is a site's, else it cannot be told which of them are.
    """
    there = [posixpath.basename(path) for path in survey.read.get(server, ()) if posixpath.dirname(path) == folder]
    file = f"{name}.conf"
    others = [other for other in there if other != file]
    first = bool(others) and (file < min(others) if all_sites else file < max(others))
    return f"zz-{file}" if first else file


def fitting(site: WantedSite, survey: Survey, offers: Offers) -> list[Candidate]:
    """What could serve it: in the first way of running PHP behind its web server that anything offers."""
    there = next((web_server for web_server in survey.web_servers or () if web_server.server == site.server), None)
    for sapi in webserver(site.server).ways(there):
        if possible := candidates(survey, offers, (sapi,)):
            return possible
    return []


def changes(site: WantedSite, needs: Needs, target: Target, survey: Survey, offers: Offers) -> Iterator[Change]:
    """What it takes to serve the application by that runtime, beside the runtime itself."""
    server = next((web_server for web_server in survey.web_servers or () if web_server.server == site.server), None)
    if not has_server(survey, site.server):
        yield Install(_package(site.server, offers), of_php=False)
        yield Restart(offers.platform.web_service(site.server), "start")
    if not target.present and target.runtime.service:
        yield Restart(target.runtime.service, "start")
    modules = webserver(site.server).handing_on(target.runtime.sapi)
    if survey.web_servers is not None:
        lacking = modules if server is None else webserver(site.server).lacking(modules, server)
        if lacking:
            yield SwitchOn(Switch(site.server, tuple(lacking)))
    runtime = target.runtime
    if runtime.sapi == "fpm" and runtime.pool_dir:
        pool = replace(own_pool(needs, runtime, survey), handed=True)
        yield pool
        runtime = pool.beside(runtime)
    yield _added(site, needs, runtime, survey)


def _added(site: WantedSite, needs: Needs, runtime: Runtime, survey: Survey) -> AddSite:
    web = {need.aspect: need.value for need in needs.of(WebNeed)}
    below = web.get("document_root", "")
    front = web.get("front_controller", "")
    denied = [need for need in needs.of(WebNeed) if need.aspect == "deny"]
    inside = [path.strip("/") for need in denied if (path := address(need.value, need.document_root))]
    file, link = _files(survey, site.server, site.name)
    if not _SOCKET.fullmatch(runtime.listen or "") and runtime.sapi == "fpm":
        raise FundamentumError(f"--site {site.name}: {runtime.label} waits at {runtime.listen}, which no site can name")
    new = NewSite(
        site.name,
        posixpath.join(site.directory, below).rstrip("/"),
        f"unix:{runtime.listen}" if (runtime.listen or "").startswith("/") else runtime.listen or "",
        front,
        tuple(inside),
        addresses=site.addresses,
        only_one=has_server(survey, site.server) and not _others(survey, site.server),
        both_protocols=_both_protocols(survey, site.server),
    )
    visits = [(f"/{path}/", "refused") for path in inside]
    visits += [(NO_FILE, f"/{front}" if front else "missing"), (LIST, "refused")]
    return AddSite(site.server, new, runtime.label, file, link, tuple(visits))


def _both_protocols(survey: Survey, server: str) -> bool:
    """Whether it waits for IPv6 too: not where others do not, whose visitors would come to it then."""
    answer = survey.answers.get("text:/proc/net/if_inet6")
    if answer and answer.there is False:
        return False
    others = [site for site in survey.sites if site.server == server]
    if others or not has_server(survey, server):
        return not others or any(site.both_protocols for site in others)
    _, links = platform(survey.system.family).web_sites[server]
    return f"{links}/default" in survey.read.get(server, ())  # as the package has it, it waits for both


def _others(survey: Survey, server: str) -> bool:
    """Whether other sites of the web server are known to be set up in sections of their own."""
    _, links = platform(survey.system.family).web_sites[server]
    linked = any(posixpath.dirname(path) == links for path in survey.read.get(server, ()) if links)
    return linked or any(site.set_up for site in survey.sites if site.server == server)


def target_of(added: Sequence[Change], target: Target, site: WantedSite) -> Target:
    """The target with what was added for it: perhaps a pool of its own, and the site by which it is judged."""
    pool = next((change for change in added if isinstance(change, AddPool)), None)
    reason = f"{target.reason}, for the new site {site.name} of {webserver(site.server).title}"
    if pool is None:
        return replace(target, site=site.name, reason=reason, named=False)
    reason = f"in a pool of its own, for the new site {site.name} of {webserver(site.server).title}"
    return Target(pool.beside(target.runtime), reason, target.present, site.name, own=True)


def with_reasons(added: Sequence[Change], done: Settled, needs: Needs) -> list[Change]:
    """What was added, each with its reason in what was settled on, and the site with its limits in its own file."""
    reason = Reason(needs.name, WebNeed("served").key, "required", None)
    for change in added:
        done.reasons.setdefault(change.key, {})[reason] = None
    out = list(added)
    for at, site in enumerate(out):
        if isinstance(site, AddSite):
            widened = [
                raised
                for raised in done.changes.values()
                if isinstance(raised, WidenLimit) and raised.file == site.file
            ]
            for change in widened:
                out[at] = site = site.widened(change)
                done.reasons[site.key] |= done.reasons.pop(change.key, {})
                del done.changes[change.key]
            out[at] = _as_wide_as_php(site, done.world)
    return out


def _as_wide_as_php(site: AddSite, world: Survey | None) -> AddSite:
    """The site with limits on bodies that are no narrower than PHP's own: a new one stands in nobody's way."""
    runtime = next((runtime for runtime in world.runtimes if runtime.label == site.runtime), None) if world else None
    setting = runtime.settings.get("post_max_size") if runtime else None
    if world is None or setting is None or not setting.value:
        return site
    least = quantity(setting.value).number
    of, limits = webserver(site.server), dict(site.site.limits)
    for limit in of_new_site(site.server, world).values():
        directive = of.sizes.get(limit.name)
        if directive is None or directive.by_hand:
            continue
        amount = directive.read(limits.get(limit.name) or of.value(limit, world))
        if amount is not None and amount < least:
            limits[limit.name] = directive.write(least)
    return replace(site, site=replace(site.site, limits=tuple(limits.items())))


def next_steps(site: WantedSite) -> Iterator[str]:
    """What is left to the administrator."""
    yield f"put the application into {site.directory}, then open http://{site.name}/"
    yield f"until {site.name} stands in the DNS, visitors' /etc/hosts takes a line: ADDRESS-OF-THE-SERVER {site.name}"
    yield f"a certificate for {site.name}, and a firewall that lets port 80 in, are up to you"
