"""nginx."""

import math
import re

from fundamentum.catalog.quantity import quantity, span
from fundamentum.model.recorded_paths import Recorded
from fundamentum.webservers.base import Directive, WebServerType

MAIN = ("/etc/nginx/nginx.conf", "/usr/local/nginx/conf/nginx.conf", "/usr/local/etc/nginx/nginx.conf")
BODIES = ("/var/lib/nginx/body", "/var/lib/nginx/tmp/client_body")
MEGA = 2**20


def _size(text: str) -> float | None:
    """``64m`` in bytes; ``0`` is no limit.  Source: nginx's documentation, "Configuration file measurement units"."""
    match = re.fullmatch(r"(\d+)([kKmMgG]?)", text)
    if not match:
        return None
    return math.inf if int(match[1]) == 0 else quantity(text).number


class Nginx(WebServerType):
    """nginx, which hands requests to PHP's process manager."""

    title = package = "nginx"
    packages = ("nginx", "nginx-core", "nginx-light", "nginx-full", "nginx-extras")
    signal = "HUP"
    process = "nginx: master process"
    worker = "nginx: worker process( is shutting down)?"
    available, enabled = "/etc/nginx/sites-available", "/etc/nginx/sites-enabled"
    configuration = ("/etc/nginx", "/usr/local/nginx/conf", "/usr/local/etc/nginx")
    read_when_started = ("/etc/nginx",)
    recorded = Recorded(here=("/usr/local/etc", "/usr/local/nginx", *BODIES))
    calls_itself = "nginx"
    root_directive = "root"
    shared_roots = ("/usr/share/nginx", "/usr/local/nginx")
    sizes = {"client_max_body_size": Directive(_size, lambda least: f"{math.ceil(least / MEGA)}m")}
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

    def statement(self, name: str, value: str) -> str:
        return f"{name} {value};"


WEB_SERVER = Nginx()
