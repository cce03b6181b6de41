"""What the blocks around a directive of nginx set for everything in them."""

from collections.abc import Iterator
from typing import Any, Final

import msgspec

from fundamentum.hosts.base import Host
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.surrounding_facts import Barrier, FirstPage, Limit, Spot
from fundamentum.webservers.nginx import DEFAULTS as OF_FASTCGI
from fundamentum.webservers.nginx.inspection import Inspection
from fundamentum.webservers.nginx.script_places import Parameter
from fundamentum.webservers.nginx.variables import filled
from fundamentum.webservers.nginx.visits import Way

DEFAULTS: Final = {**OF_FASTCGI, "proxy_read_timeout": Limit("proxy_read_timeout", "60s")}
"""Source: nginx's documentation of its proxy module."""


class Scope(msgspec.Struct, frozen=True):
    """What surrounds a directive."""

    names: tuple[str, ...] = ("default",)
    root: str | None = None
    own_root: bool = False
    """Whether a line says so, and it is not nginx's own."""
    root_as_written: str | None = None
    """With the names of variables, which hold what is set nearest to the request."""
    part: str | None = None
    variables: dict[str, str] = {}
    set_elsewhere: frozenset[str] = frozenset()
    """Variables that locations set: a request may pass one of these before it comes to another."""
    limits: dict[str, Limit] = msgspec.field(default_factory=DEFAULTS.copy)
    inspected: Inspection = Inspection()
    """What is said of the module that inspects requests."""
    set_up: Origin | None = None
    """The beginning of the server's block."""
    inside: bool = False
    """Whether this is one server's own block."""
    secure: bool = False
    spot: Spot | None = None
    user: str | None = None
    group: str | None = None
    """As whom the server works."""
    alias: tuple[str, Origin] | None = None
    """The directory to which the location's requests lead instead of the root, and the line that says so."""
    rules: tuple[tuple[str, str, Origin], ...] = ()
    """Who may ask: ``allow`` and ``deny``, in order.  A block with any of its own inherits none."""
    index: tuple[list[str], Origin] = ((["index.html"]), BUILT_IN)
    barriers: tuple[Barrier, ...] = ()
    address: str = "*:80"
    """Where the server waits."""
    both_protocols: bool = False
    host_sent: str = "$proxy_host"
    """The name of the site that another web server is asked for."""
    ways: tuple[tuple[Way, tuple[Limit, ...]], ...] = ()
    """The ways of requests through the server, each with the limits of bodies that it meets before it is handed on."""
    sent: tuple[Parameter, ...] = ()
    """FastCGI parameters.  A block with any of its own inherits none."""
    sent_here: bool = False
    """Whether those are the innermost block's own."""
    root_beside: str | None = None
    """The root of the server's ``location /``, where the server itself has none."""

    def first_page(self, statement: dict[str, Any]) -> FirstPage:
        """Whether the statement hands a visitor's first request to PHP."""
        first = next((way for way, _ in self.ways if way.handed and way.uri in ("/", "/index.php")), None)
        return "unclear" if first is None else "here" if first.handed is statement else "elsewhere"

    def first_scripts(self, statement: dict[str, Any]) -> tuple[str, ...]:
        """The addresses of the scripts for which a visitor's first requests come to the statement."""
        first = (way for way, _ in self.ways if way.uri in ("/", "/index.php"))
        return tuple(dict.fromkeys(way.script for way in first if way.handed is statement and way.script))

    def is_outdone(self, statement: dict[str, Any]) -> bool:
        """Whether all requests that are handed on come to others, as far as those go that are followed."""
        handed = [way.handed for way, _ in self.ways if way.handed]
        return bool(handed) and not any(way.unclear or way.handed is statement for way, _ in self.ways)

    def on_the_way(self, statement: dict[str, Any]) -> Iterator[Limit]:
        """The limits of bodies that requests meet which come to the statement, or may do so."""
        own = self.limits["client_max_body_size"]
        seen = {(own.value, own.origin)}
        for way, limits in self.ways:
            for limit in limits if way.handed is statement or (way.unclear and way.handed is None) else ():
                if (limit.value, limit.origin) not in seen:
                    seen.add((limit.value, limit.origin))
                    yield limit

    def known(self, host: Host) -> dict[str, str]:
        """The variables that are known, with those of nginx's own that are the same for every request."""
        root = self.root if self.root and self.root.startswith("/") and "$" not in self.root else None
        real = host.resolve(root) if root and host.whole else None
        own = {} if self.alias else {"$document_root": root, "$realpath_root": real}
        return {**own_names(self.names), **self.variables, **{name: text for name, text in own.items() if text}}

    def sent_as_known(self) -> list[Parameter]:
        """The FastCGI parameters, with the variables that are set put in."""
        return [(name, filled(text, self.variables), origin) for name, text, origin in self.sent]


def own_names(names: tuple[str, ...]) -> dict[str, str]:
    """The variables that hold the names of a server; ``$host`` where it answers by one name only."""
    if names[0] == "default":
        return {}
    only = len(names) == 1 and not any(sign in names[0] for sign in "*~")
    return {"$server_name": names[0], **({"$host": names[0]} if only else {})}
