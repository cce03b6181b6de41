"""nginx."""

import math
import re
from collections.abc import Iterable

from fundamentum.catalog.quantity import quantity, span
from fundamentum.model.recorded_paths import Recorded
from fundamentum.model.surrounding_facts import Limit, WebServer
from fundamentum.model.survey import Site
from fundamentum.webservers.base import Directive, NewSite, WebServerType
from fundamentum.webservers.nginx.new_site import site_lines

MAIN = ("/etc/nginx/nginx.conf", "/usr/local/nginx/conf/nginx.conf", "/usr/local/etc/nginx/nginx.conf")
BODIES = ("/var/lib/nginx/body", "/var/lib/nginx/tmp/client_body")
ROOTS = ("/usr/share/nginx/html", "/usr/local/nginx/html")
"""Where files are looked for that no ``root`` is set for, as nginx is built by distributions and from source."""
MEGA = 2**20
BUILT_IN = frozenset({"rewrite", "headers", "deflate", "gzip", "expires", "dir", "alias", "mime", "setenvif", "env"})
"""What other web servers have modules for, and nginx always does."""
DEFAULTS = {
    "client_max_body_size": Limit("client_max_body_size", "1m"),
    "fastcgi_read_timeout": Limit("fastcgi_read_timeout", "60s"),
}
"""For requests that are handed to PHP.  Source: nginx's documentation of its core and FastCGI modules."""


def _size(text: str) -> float | None:
    """``64m`` in bytes; ``0`` is no limit.  Source: nginx's documentation, "Configuration file measurement units"."""
    match = re.fullmatch(r"(\d+)([kKmMgG]?)", text)
    if not match:
        return None
    return math.inf if int(match[1]) == 0 else quantity(text).number


class Nginx(WebServerType):
    """nginx, which hands requests to PHP's process manager."""

    title = package = "nginx"
    set_up_as = 1
    packages = ("nginx", "nginx-core", "nginx-light", "nginx-full", "nginx-extras")
    signal = "HUP"
    process = "nginx: master process"
    worker = "nginx: worker process( is shutting down)?"
    available, enabled = "/etc/nginx/sites-available", "/etc/nginx/sites-enabled"
    configuration = ("/etc/nginx", "/usr/local/nginx/conf", "/usr/local/etc/nginx")
    read_when_started = ("/etc/nginx",)
    recorded = Recorded(here=("/usr/local/etc", "/usr/local/nginx", *BODIES), units=("nginx",))
    calls_itself = "nginx"
    root_directive = "root"
    shared_roots = ("/usr/share/nginx", "/usr/local/nginx")
    sizes = {
        "client_max_body_size": Directive(_size, lambda least: f"{math.ceil(least / MEGA)}m"),
        "SecRequestBodyLimit": Directive(lambda text: float(text) if text.isdecimal() else None, by_hand=True),
    }
    times = {
        "fastcgi_read_timeout": Directive(span, lambda least: f"{least}s"),
        "proxy_read_timeout": Directive(span, lambda least: f"{least}s"),
    }
    harmless = frozenset(
        "server location upstream include root index server_name listen ssl try_files fastcgi_pass "
        "client_max_body_size fastcgi_read_timeout proxy_read_timeout proxy_pass client_body_temp_path".split()
    )
    body_folder = "client_body_temp_path"
    bodies = BODIES

    def new_site(self, site: NewSite) -> list[str]:
        return site_lines(site)

    def new_limits(self) -> tuple[Limit, ...]:
        return tuple(DEFAULTS.values())

    def lacking(self, modules: Iterable[str], server: WebServer | None) -> tuple[str, ...] | None:
        """None of those for what is built in; what is not known here may be."""
        return () if set(modules) <= BUILT_IN else None

    def to_front(self, script: str) -> str:
        return f"write try_files $uri $uri/ /{script}$is_args$args; into location /"

    def to_refuse(self, path: str) -> str:
        return f'write location ~ "^{re.escape(path.rstrip("/"))}(?:/|$)" {{ return 404; }} before the other locations'

    def to_hide_lists(self) -> str:
        return "take autoindex on; out"

    def widening(self, site: Site, limit: Limit, to: str, by_hand: bool) -> str:
        if by_hand:
            return f"write {limit.name} {to} at {limit.origin}; it counts for every site with these rules"
        return super().widening(site, limit, to, by_hand)

    def statement(self, name: str, value: str) -> str:
        return f"{name} {value};"


WEB_SERVER = Nginx()
