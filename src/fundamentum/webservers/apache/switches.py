"""What is switched on in web servers whose modules are links in a directory."""

import re
from typing import Final

from fundamentum.hosts.base import Host, listed
from fundamentum.model.surroundings import WebServer
from fundamentum.model.text import is_plain
from fundamentum.webservers.nginx import reading as nginx

APACHE: Final = "/etc/apache2"


def web_servers(host: Host) -> tuple[WebServer, ...]:
    """The web servers that are set up here.  Source: a2enmod(8), a2enconf(8), and what Debian's packages bring."""
    found = []
    if host.stat(f"{APACHE}/apache2.conf"):
        modules = _names(host, "mods-enabled", "load")
        there = _names(host, "mods-available", "load")
        found.append(WebServer("apache2", modules, there, _names(host, "conf-enabled", "conf")))
    if any(host.stat(path) for path in nginx.MAIN):
        found.append(WebServer("nginx"))
    return tuple(found)


def _names(host: Host, folder: str, ending: str) -> tuple[str, ...]:
    matches = (re.fullmatch(rf"(.+)\.{ending}", name) for name in listed(host, f"{APACHE}/{folder}"))
    return tuple(match[1] for match in matches if match and is_plain(match[1]))
