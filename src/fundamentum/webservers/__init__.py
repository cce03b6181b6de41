"""Behind which web server PHP stands: one file or folder for each, found by its name, loaded when it is asked for.

What differs from one web server to the other stands there.  An entry's module has a ``WEB_SERVER``
(:class:`~fundamentum.webservers.base.WebServerType`), which survey, check, plan and report ask.  In itself, or in a
part of its folder, it may have functions that read a server:

``reading.py``
    ``read(host)``: what its configuration hands to PHP, and the files it was read from.
``switches.py``
    ``set_up(host)``: whether it is set up here, and what of it is switched on; asked where modules go by name.
``recorder.awk``
    of which kind its files are, and which of their lines may leave the server (see ``survey/recorder``).
"""

from collections.abc import Iterable
from functools import cache
from types import ModuleType

from fundamentum import entries
from fundamentum.hosts.base import Host
from fundamentum.model.surrounding_facts import WebServer
from fundamentum.model.survey import Site
from fundamentum.webservers.base import WebServerType

_NO_ENTRIES = frozenset({"base", "handoffs", "limits", "sites", "visit_questions"})
OTHER_PACKAGES = ("lighttpd", "caddy")
"""Packages of web servers of which no more is known here than that they are such."""


def names() -> tuple[str, ...]:
    """The web servers that are known."""
    return entries.names(__name__, _NO_ENTRIES)


@cache
def webserver(name: str) -> WebServerType:
    """The web server of that name, as a survey's sites have it."""
    if name not in names():
        return WebServerType()
    entry = entries.entry(__name__, name).WEB_SERVER
    assert isinstance(entry, WebServerType)
    return entry


@cache
def for_sites() -> dict[str, str]:
    """The web servers that new sites are set up behind, as a needs file names them → as a survey does; in order."""
    titled = ((webserver(name), name) for name in names())
    return {of.calls_itself: name for of, name in sorted(titled, key=lambda entry: entry[0].set_up_as) if of.set_up_as}


def part(name: str, what: str) -> ModuleType:
    """A part of a web server's entry, such as ``reading``."""
    return entries.part(__name__, name, what)


def text_of(name: str, file: str) -> str:
    """A text of a web server's entry, such as ``recorder.awk``; empty if it has none."""
    return entries.text_of(__name__, name, file)


def set_up(host: Host) -> tuple[WebServer, ...]:
    """The web servers that are set up on a server where modules are switched on by name."""
    readers = (getattr(part(name, "switches"), "set_up", None) for name in names())
    return tuple(servers for reader in readers if reader and (servers := reader(host)))


def packages() -> tuple[str, ...]:
    """Names of packages that bring a web server."""
    return (*(package for name in names() for package in webserver(name).packages), *OTHER_PACKAGES)


def body_folders(sites: Iterable[Site]) -> list[str]:
    """The directories in which the web servers keep requests before PHP has them."""
    all_sites = (server_site for site in sites for server_site in site.way)
    folders = (
        limit.value for site in all_sites for limit in site.limits if limit.name == webserver(site.server).body_folder
    )
    return list(dict.fromkeys(folders))
