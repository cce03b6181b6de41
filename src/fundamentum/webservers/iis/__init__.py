"""IIS: which program each site's handlers give PHP files to, from ``applicationHost.config`` and ``web.config``."""

import posixpath
from collections.abc import Iterator
from typing import Any, Final

from fundamentum.catalog.quantity import span
from fundamentum.hosts.base import Host, HostError, matching
from fundamentum.hosts.processes import VARIABLES
from fundamentum.hosts.windows_directory import windows_path
from fundamentum.model.layers import Layer
from fundamentum.model.origin import Origin
from fundamentum.model.php import Branch
from fundamentum.model.remark import Remark
from fundamentum.model.surrounding_facts import Limit
from fundamentum.model.survey import Site
from fundamentum.untrusted.xml import BadXml, parsed
from fundamentum.webservers.base import Directive, WebServerType
from fundamentum.webservers.handoffs import Files, Found, Handoff
from fundamentum.webservers.iis import barriers

MAIN: Final = "/[Ww]indows/[Ss]ystem32/inetsrv/config/applicationHost.config"
_MAX_XML: Final = 16 * 1024 * 1024


def _bytes(text: str) -> float | None:
    return float(text) if text.isascii() and text.isdigit() else None


class Iis(WebServerType):
    """IIS, which runs PHP as a FastCGI program and is changed by commands."""

    calls_itself = "microsoft-iis"
    title = "IIS"
    sizes = {"maxAllowedContentLength": Directive(_bytes)}
    times = {"activityTimeout": Directive(span), "requestTimeout": Directive(span)}
    by_command = True

    def widening(self, site: Site, limit: Limit, to: str, by_hand: bool) -> str:
        return f"set {limit.name} to {to} for {site.name}"

    def command(self, site: str, name: str, to: str, program: str) -> str:
        """Source: Microsoft's reference of IIS configuration, requestLimits and fastCgi, "AppCmd.exe"."""
        tool = r"%windir%\system32\inetsrv\appcmd.exe set config"
        if name == "maxAllowedContentLength":
            section = "/section:system.webServer/security/requestFiltering"
            return f'{tool} "{site}" {section} /requestLimits.maxAllowedContentLength:{to}'
        program = program.replace("/", "\\").lstrip("\\")
        section = "/section:system.webServer/fastCgi"
        return f"{tool} {section} \"/[fullPath='{program}'].{name}:{to}\" /commit:apphost"

    def unsuited(self, branch: Branch) -> str | None:
        """Source: php.net, "Which version do I choose?" for Windows."""
        return "under FastCGI: the other build is meant for it" if branch.thread_safe else None


WEB_SERVER = Iis()


def read(host: Host) -> Found:
    """The handoffs of all sites.  Source: Microsoft's reference of IIS configuration (handlers, sites)."""
    if not host.windows:
        return [], [], []
    files = Files(host, "IIS")
    handoffs: list[Handoff] = []
    for path in matching(host, MAIN):
        tree = _tree(host, path, files)
        if tree is not None:
            handoffs += _sites(host, tree, path, files)
    return handoffs, files.read, files.remarks


def _tree(host: Host, path: str, files: Files) -> Any:
    try:
        data = host.read(path, _MAX_XML)
        if data is None:
            return None
        files.read.append(path)
        return parsed(data)
    except HostError as error:
        files.remarks.append(Remark("web sites", str(error)))
    except BadXml as error:
        files.remarks.append(Remark("web sites", f"{path}: cannot be read as XML ({error})"))
    return None


def _sites(host: Host, tree: Any, path: str, files: Files) -> Iterator[Handoff]:
    common = list(_handlers(tree.find("system.webServer"), path))
    for site in tree.iterfind("system.applicationHost/sites/site"):
        name = site.get("name", "default")
        root = next((one.get("physicalPath") for one in site.iter("virtualDirectory") if one.get("path") == "/"), "")
        root = windows_path(host, root, "/") if root else None
        own = [
            handler
            for location in _locations(tree, name)
            for handler in _handlers(location.find("system.webServer"), path)
        ]
        web = next(iter(matching(host, posixpath.join(root, "[Ww]eb.config"))), None) if root else None
        local = _tree(host, web, files) if web else None
        if web and local is not None:
            own = [*_handlers(local.find("system.webServer"), web), *own]
        winner = _first(own, common)
        if winner:
            names = (name, *dict.fromkeys(h for b in site.iter("binding") if (h := _host_of(b)) and h != name))
            program = windows_path(host, winner[1].get("scriptProcessor", "").partition("|")[0].strip('"'), "/")
            servers = [(web, local.find("system.webServer"))] if web and local is not None else []
            servers += [(path, one.find("system.webServer")) for one in _locations(tree, name)]
            servers.append((path, tree.find("system.webServer")))
            yield Handoff(
                names,
                "iis",
                winner[0],
                root,
                None,
                "program",
                program,
                limits=(_body(servers), *_times(host, servers, program)),
                layers=tuple(_variables(host, servers, program)),
                barriers=tuple(barriers.barriers(host, tree, path, site, servers, winner[1])),
                secure=any(one.get("protocol") == "https" for one in site.iter("binding")),
            )


def _locations(tree: Any, name: str) -> list[Any]:
    return [one for one in tree.iterfind("location") if (one.get("path") or "").rstrip("/").lower() == name.lower()]


def _body(servers: list[tuple[str, Any]]) -> Limit:
    """The largest request.  Source: Microsoft's reference (requestLimits): 30,000,000 bytes unless set."""
    for path, server in servers:
        for one in server.iterfind("security/requestFiltering/requestLimits") if server is not None else ():
            if found := one.get("maxAllowedContentLength"):
                return Limit("maxAllowedContentLength", found, Origin(path, one.sourceline))
    return Limit("maxAllowedContentLength", "30000000")


def _applications(host: Host, servers: list[tuple[str, Any]], program: str) -> list[tuple[str, Any]]:
    """The FastCGI applications of a program.  Source: Microsoft's reference (fastCgi/application)."""
    return [
        (path, one)
        for path, server in servers
        for one in (server.iterfind("fastCgi/application") if server is not None else ())
        if windows_path(host, one.get("fullPath", ""), "/").lower() == program.lower()
    ]


def _variables(host: Host, servers: list[tuple[str, Any]], program: str) -> Iterator[Layer]:
    """Environment variables that make PHP read other files than those beside its program: which, is not followed."""
    for path, application in _applications(host, servers, program):
        for one in application.iterfind("environmentVariables/environmentVariable"):
            name, value = one.get("name", ""), windows_path(host, one.get("value", ""), "/").rstrip("/")
            if name in VARIABLES and value.lower() != posixpath.dirname(program).lower():
                yield Layer("start", (), Origin(path, one.sourceline), f"{name} makes PHP read other files")


def _times(host: Host, servers: list[tuple[str, Any]], program: str) -> Iterator[Limit]:
    """How long a FastCGI program may work."""
    applications = _applications(host, servers, program)
    for name, value in (("activityTimeout", "30"), ("requestTimeout", "90")):
        found = next(((path, one) for path, one in applications if one.get(name)), None)
        yield Limit(name, found[1].get(name), Origin(found[0], found[1].sourceline)) if found else Limit(name, value)


def _host_of(binding: Any) -> str:
    return str(binding.get("bindingInformation", "")).rpartition(":")[2]


def _handlers(server: Any, path: str) -> Iterator[tuple[Origin, Any]]:
    """The elements of the handlers list, each with its place."""
    for one in server.iterfind("handlers/*") if server is not None else ():
        if isinstance(one.tag, str):
            yield Origin(path, one.sourceline), one


def _first(own: list[tuple[Origin, Any]], common: list[tuple[Origin, Any]]) -> tuple[Origin, Any] | None:
    """The handler that takes ``*.php``: a site's own come before the server's, unless it takes those off."""
    removed = {one.get("name") for _, one in own if one.tag == "remove"}
    cleared = any(one.tag == "clear" for _, one in own)
    kept = [] if cleared else [pair for pair in common if pair[1].get("name") not in removed]
    for where, one in (*own, *kept):
        takes = one.tag == "add" and (one.get("path") or "").lower() in ("*.php", "*")
        if takes and "php" in one.get("scriptProcessor", "").lower():
            return where, one
    return None
