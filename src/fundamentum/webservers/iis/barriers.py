"""What in the configuration of IIS keeps requests from reaching PHP: the first broken link of the way comes first.

Source: Microsoft's reference of IIS configuration (globalModules, fastCgi, handlers, applicationPools,
defaultDocument), and "Configure PHP on IIS".
"""

from collections.abc import Iterator, Sequence
from typing import Any, Final

from fundamentum.hosts.base import Host, listed
from fundamentum.hosts.windows_directory import windows_path
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Barrier

APPCMD: Final = r"%windir%\system32\inetsrv\appcmd.exe"
SYSTEM: Final = "/Windows/System32"
Servers = Sequence[tuple[str, Any]]
"""The elements ``system.webServer`` that count for a site, the nearest first, each with its file."""


def barriers(host: Host, tree: Any, path: str, site: Any, servers: Servers, handler: Any) -> Iterator[Barrier]:
    """From the feature that has to be there to the document that a bare address means."""
    program = handler.get("scriptProcessor", "").partition("|")[0].strip('"')
    place = windows_path(host, program, "/")
    yield from _feature(tree, path)
    if "%" in place:
        return  # a variable of that machine, whose value cannot be read
    if host.stat(place) is None:
        why = f"the handler {handler.get('name', '')} names {program}, which is not there"
        yield Barrier(
            why, f"put PHP there, or let the handler name the php-cgi.exe that is meant ({path})", Origin(path)
        )
        return
    yield from _application(host, servers, place, program, path)
    yield from _bits(tree, path, site, handler)
    yield from _compiler_runtime(host)
    yield from _default_document(servers, path)


def _feature(tree: Any, path: str) -> Iterator[Barrier]:
    """The part of IIS that speaks FastCGI, where the file lists what is installed at all."""
    installed = tree.find("system.webServer/globalModules")
    if installed is None or any(one.get("name") == "FastCgiModule" for one in installed.iterfind("add")):
        return
    remedy = (
        "Install-WindowsFeature Web-CGI (on a server), or Enable-WindowsOptionalFeature -Online -FeatureName IIS-CGI"
    )
    yield Barrier("IIS has no CGI feature: nothing runs FastCGI programs", remedy, Origin(path, installed.sourceline))


def _application(host: Host, servers: Servers, place: str, program: str, path: str) -> Iterator[Barrier]:
    known = (
        windows_path(host, one.get("fullPath", ""), "/").lower()
        for _, server in servers
        for one in (server.iterfind("fastCgi/application") if server is not None else ())
    )
    if place.lower() not in known:
        section = "/section:system.webServer/fastCgi"
        remedy = f"{APPCMD} set config {section} \"/+[fullPath='{program}']\" /commit:apphost"
        yield Barrier(f"no FastCGI application is set up for {program}", remedy, Origin(path))


def _bits(tree: Any, path: str, site: Any, handler: Any) -> Iterator[Barrier]:
    """A handler that is for pools of the other size alone does not count in this one."""
    wanted = handler.get("preCondition", "").lower()
    pool = next((one.get("applicationPool") for one in site.iterfind("application") if one.get("path") == "/"), None)
    pools = {one.get("name"): one for one in tree.iterfind("system.applicationHost/applicationPools/add")}
    known = pools.get(pool or "DefaultAppPool")
    if known is None or "bitness" not in wanted:
        return
    small = (known.get("enable32BitAppOnWin64") or "false").lower() == "true"
    if ("bitness64" in wanted) is small:
        size = "32" if small else "64"
        why = f"the pool {known.get('name')} runs in {size} bits, and the handler counts in the other kind only"
        setting = f'/apppool.name:"{known.get("name")}" /enable32BitAppOnWin64:{str(not small).lower()}'
        yield Barrier(why, f"{APPCMD} set apppool {setting}", Origin(path, known.sourceline))


def _compiler_runtime(host: Host) -> Iterator[Barrier]:
    """The library that every build of PHP 7 and later is linked with, where the system's directory can be seen."""
    names = {name.lower() for name in listed(host, SYSTEM)}
    if not names or "kernel32.dll" not in names or "vcruntime140.dll" in names:
        return
    why = "the runtime of the compiler (vcruntime140.dll) is not installed: php-cgi.exe does not start"
    yield Barrier(why, "install the Visual C++ redistributable for Visual Studio 2015-2022, x64", Origin(SYSTEM))


def _default_document(servers: Servers, path: str) -> Iterator[Barrier]:
    """Whether a bare address means ``index.php``, where anything is said of that."""
    files = [
        one.get("value", "").lower()
        for _, server in servers
        for one in (server.iterfind("defaultDocument/files/add") if server is not None else ())
    ]
    if files and "index.php" not in files:
        section = "/section:system.webServer/defaultDocument"
        remedy = f"{APPCMD} set config {section} \"/+files.[value='index.php']\""
        why = "the address of the site alone is not answered by index.php, which is no default document"
        yield Barrier(why, remedy, Origin(path), stops=False)
