"""What is switched on in Apache where its modules are links in a directory.

Source: a2enmod(8), a2enconf(8), and what Debian's packages bring.
"""

import re
from typing import Final

from fundamentum.hosts.base import Host, listed
from fundamentum.model.safe_text import is_plain
from fundamentum.model.surrounding_facts import WebServer

APACHE: Final = "/etc/apache2"


def set_up(host: Host) -> WebServer | None:
    """Apache with its modules, if its configuration is there."""
    if not host.stat(f"{APACHE}/apache2.conf"):
        return None
    modules = _names(host, "mods-enabled", "load")
    there = _names(host, "mods-available", "load")
    return WebServer("apache2", modules, there, _names(host, "conf-enabled", "conf"))


def _names(host: Host, folder: str, ending: str) -> tuple[str, ...]:
    matches = (re.fullmatch(rf"(.+)\.{ending}", name) for name in listed(host, f"{APACHE}/{folder}"))
    return tuple(match[1] for match in matches if match and is_plain(match[1]))
