"""Whether nginx is set up here; its modules are not switched on by name."""

from fundamentum.hosts.base import Host
from fundamentum.model.surrounding_facts import WebServer
from fundamentum.webservers.nginx import MAIN


def set_up(host: Host) -> WebServer | None:
    """nginx, if its configuration is there."""
    return WebServer("nginx") if any(host.stat(path) for path in MAIN) else None
