"""nginx: ``fastcgi_pass`` of every server and location.  The configuration language is read by crossplane."""

import re
from collections.abc import Iterator
from typing import Any, Final, Literal

import msgspec
from msgspec.structs import replace

from fundamentum.hosts.base import Host
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.surrounding_facts import Barrier, Limit, Spot
from fundamentum.webservers.handoffs import MAX_SENT, Files, Found, Handoff, sent_along, spot, unlinked
from fundamentum.webservers.nginx import BODIES, DEFAULTS, MAIN, WEB_SERVER, barriers
from fundamentum.webservers.nginx.script_places import Parameter, elsewhere, scripts_in
from fundamentum.webservers.nginx.statements import Reader, all_statements
from fundamentum.webservers.nginx.visits import Answers

_VARIABLE: Final = lazy_regex(r"\$\{?(\w+)\}?")
_WHOLE: Final = lazy_regex(r"\^?(?:\(?\.[*+]\)?|\[\^/\]|/?\(\.[*+]|\.\+)*\(?\\\.\(?\??:?ph")
"""A pattern for all PHP files of a site, rather than for a part of it."""


_DEFAULTS: Final = {**DEFAULTS, "proxy_read_timeout": Limit("proxy_read_timeout", "60s")}
"""Source: nginx's documentation of its proxy module."""


class _Scope(msgspec.Struct, frozen=True):
    """What surrounds a directive."""

    names: tuple[str, ...] = ("default",)
    root: str | None = None
    part: str | None = None
    variables: dict[str, str] = {}
    limits: dict[str, Limit] = msgspec.field(default_factory=_DEFAULTS.copy)
    set_up: Origin | None = None
    """The beginning of the server's block."""
    inside: bool = False
    """Whether this is one server's own block."""
    secure: bool = False
    spot: Spot | None = None
    user: str | None = None
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
    sent: tuple[Parameter, ...] = ()
    """FastCGI parameters.  A block with any of its own inherits none."""


Kind = Literal["socket", "web", "unclear"]


def read(host: Host) -> Found:
    """The handoffs of all servers.  Source: nginx's documentation of its core and FastCGI modules."""
    main = next((path for path in MAIN if host.stat(path)), None)
    if main is None:
        return [], [], []
    files = Files(host, "nginx")
    reader = Reader(files, main.rpartition("/")[0])
    tree = list(reader.statements(main, 0))
    upstreams = {
        all_statement["args"][0]: [
            inner["args"][0] for inner in all_statement["block"] if inner["directive"] == "server" and inner["args"]
        ]
        for all_statement in all_statements(tree)
        if all_statement["directive"] == "upstream" and all_statement["args"] and "block" in all_statement
    }
    bodies = next((path for path in BODIES if host.stat(path)), None)
    scope = _Scope(
        limits={**_DEFAULTS, "client_body_temp_path": Limit("client_body_temp_path", bodies)} if bodies else _DEFAULTS
    )
    user = next(
        (statement["args"][0] for statement in tree if statement["directive"] == "user" and statement["args"]), None
    )
    scope = replace(scope, user=user)
    read_by_it = list(files.read)
    idle = unlinked(host, WEB_SERVER.available, WEB_SERVER.enabled, read_by_it)
    more = [one for path in idle for one in reader.statements(path, 1) if one["directive"] == "server"]
    tree = [
        {**statement, "block": [*statement["block"], *more]} if statement["directive"] == "http" else statement
        for statement in tree
    ]
    return list(_Walk(host, upstreams, frozenset(idle)).handoffs(tree, scope)), read_by_it, files.remarks


class _Walk:
    """Goes down the blocks, with what each of them inherits."""

    def __init__(self, host: Host, upstreams: dict[str, list[str]], idle: frozenset[str]) -> None:
        self.host, self.upstreams, self.idle = host, upstreams, idle

    def handoffs(self, tree: list[dict[str, Any]], scope: _Scope) -> Iterator[Handoff]:
        """Every ``fastcgi_pass`` of the block."""
        scope = self._entered(tree, scope)
        for statement in tree:
            block = statement.get("block", [])
            match statement["directive"]:
                case "server" if "block" in statement:
                    names = [n for inner in block if inner["directive"] == "server_name" for n in inner["args"]]
                    plain = tuple(dict.fromkeys("default" if name in ("_", "") else name for name in names))
                    inner = replace(
                        scope,
                        names=plain or ("default",),
                        inside=True,
                        set_up=statement["origin"],
                        address=_address(block),
                        both_protocols=any(
                            one["directive"] == "listen" and one["args"][:1] and one["args"][0].startswith("[::]")
                            for one in block
                        ),
                        spot=self._spot(block),
                    )
                    yield from self._server(block, tree, replace(inner, secure=_secure(block)))
                case "location":
                    part = scope.part if _covers_all(statement["args"]) else " ".join(statement["args"])
                    yield from self.handoffs(block, replace(scope, part=part))
                case "fastcgi_pass" | "proxy_pass" as name if statement["args"]:
                    refused = (*barriers.refusal(scope.rules), *barriers.returned(tree))
                    here = replace(scope, barriers=(*scope.barriers, *refused))
                    yield from (
                        self._passed(statement, here) if name == "fastcgi_pass" else self._proxied(statement, here)
                    )
                case _ if block:
                    yield from self.handoffs(block, scope)

    def _server(self, block: list[dict[str, Any]], around: list[dict[str, Any]], scope: _Scope) -> Iterator[Handoff]:
        """The handoffs of one server, in what is around it.

        A body is measured wherever a request is looked up, in ``location /`` too.
        """
        front = next(
            (
                statement["block"]
                for statement in block
                if statement["directive"] == "location" and statement["args"] == ["/"] and "block" in statement
            ),
            None,
        )
        first = self._entered(front, self._entered(block, scope)).limits["client_max_body_size"] if front else None
        inner = self._entered(block, scope)
        more_barriers = [*barriers.returned(block), *barriers.index(self.host, block, inner.root, scope.index)]
        handed = list(self.handoffs(block, replace(scope, barriers=tuple(more_barriers))))
        if not handed and scope.set_up:
            yield Handoff(
                scope.names, "nginx", scope.set_up, inner.root, None, "none", "", idle=scope.set_up.file in self.idle
            )
        for handoff in handed:
            mine = next(limit for limit in handoff.limits if limit.name == "client_max_body_size")
            apart = first is not None and (first.value, first.origin) != (mine.value, mine.origin)
            more = (replace(first, part="location /"),) if first and apart else ()
            visit = None if handoff.aliased else Answers(block, [around]).visit
            yield replace(handoff, limits=(*more, *handoff.limits), visit=visit)

    def _entered(self, tree: list[dict[str, Any]], scope: _Scope) -> _Scope:
        """The scope with what a block sets for everything in it."""
        variables = {
            statement["args"][0]: statement["args"][1]
            for statement in tree
            if statement["directive"] == "set" and len(statement["args"]) == 2
        }
        variables |= {
            name: text for statement in tree if statement["directive"] == "map" for name, text in _constant(statement)
        }
        roots = [statement["args"][0] for statement in tree if statement["directive"] == "root" and statement["args"]]
        limits = {
            statement["directive"]: Limit(
                statement["directive"],
                statement["args"][0],
                statement["origin"],
                spot(self.host, statement["origin"], WEB_SERVER.harmless) if scope.inside else None,
            )
            for statement in tree
            if statement["directive"] in (*_DEFAULTS, "client_body_temp_path") and statement["args"]
        }
        sent = tuple(
            (statement["args"][0], statement["args"][1], statement["origin"])
            for statement in tree
            if statement["directive"] == "fastcgi_param" and len(statement["args"]) > 1
        )
        headers = [
            statement["args"][1]
            for statement in tree
            if statement["directive"] == "proxy_set_header" and statement["args"][:-1] == ["Host"]
        ]
        listed = [statement for statement in tree if statement["directive"] == "index" and statement["args"]]
        leading = [statement for statement in tree if statement["directive"] == "alias"]
        return replace(
            scope,
            rules=barriers.access(tree, scope.rules),
            host_sent=next(iter(headers), scope.host_sent),
            index=next(((one["args"], one["origin"]) for one in listed), scope.index),
            alias=next((("".join(one["args"][:1]), one["origin"]) for one in leading), scope.alias),
            sent=sent or scope.sent,
            root=roots[-1] if roots else scope.root,
            variables={**scope.variables, **variables},
            limits={**scope.limits, **limits},
        )

    def _spot(self, block: list[dict[str, Any]]) -> Spot | None:
        """A line of the server's own block behind which another can stand: a whole statement, alone on its line."""
        spots = (self._alone(one) for one in block if one["directive"] in ("listen", "server_name", "root"))
        return next(filter(None, spots), None)

    def _alone(self, statement: dict[str, Any]) -> Spot | None:
        """The line of a statement that stands whole and alone on it."""
        found = spot(self.host, statement["origin"], WEB_SERVER.harmless)
        words = found.text.strip() if found else ""
        return found if words.startswith(statement["directive"]) and words.endswith(";") else None

    def _passed(self, one: dict[str, Any], scope: _Scope) -> Iterator[Handoff]:
        target = _VARIABLE.sub(lambda m: scope.variables.get(f"${m[1]}", m[0])[:500], one["args"][0][:500])
        layers = {name: sent_along(name, self._text(text, scope), origin) for name, text, origin in scope.sent}
        layers["elsewhere"] = elsewhere(scope.root, scope.alias, scope.sent)
        for address in self.upstreams.get(target, [target]):
            handoff = self._handoff(
                one, scope, "unclear" if "$" in address else "socket", address.removeprefix("fastcgi://")
            )
            yield replace(handoff, layers=tuple(filter(None, layers.values())))

    def _proxied(self, one: dict[str, Any], scope: _Scope) -> Iterator[Handoff]:
        """A handoff to another web server."""
        match = re.match(r"https?://([^/$]+)", one["args"][0])
        for address in self.upstreams.get(match[1], [match[1]]) if match else ():
            port = "" if re.search(r":\d+$", address) else ":80"
            yield replace(
                self._handoff(one, scope, "web", f"{address}{port}"),
                keeps_name=scope.host_sent in ("$host", "$http_host", "$server_name"),
            )

    def _handoff(self, one: dict[str, Any], scope: _Scope, kind: Kind, target: str) -> Handoff:
        waits = "proxy_read_timeout" if kind != "web" else "fastcgi_read_timeout"
        return Handoff(
            scope.names,
            "nginx",
            one["origin"],
            scripts_in(scope.root, scope.alias, scope.sent),
            scope.part,
            kind,
            target,
            limits=tuple(limit for limit in scope.limits.values() if limit.name != waits),
            secure=scope.secure,
            spot=scope.spot,
            user=scope.user,
            address=scope.address,
            both_protocols=scope.both_protocols,
            barriers=scope.barriers,
            handed=self._alone(one) if kind == "socket" else None,
            set_up=scope.set_up,
            idle=bool(scope.set_up and scope.set_up.file in self.idle),
            aliased=scripts_in(scope.root, scope.alias, scope.sent) != scope.root,
        )

    def _text(self, text: str, scope: _Scope) -> str | None:
        """The value of a parameter, as it is sent; None where it depends on the request."""
        filled = _VARIABLE.sub(lambda found: scope.variables.get(f"${found[1]}", found[0])[:500], text[:MAX_SENT])
        return None if _VARIABLE.search(filled) else filled.replace("\\n", "\n").replace('\\"', '"')


def _constant(mapping: dict[str, Any]) -> Iterator[tuple[str, str]]:
    """The variable of a ``map`` that has the same value for every request."""
    entries = [(inner["directive"], inner["args"][0]) for inner in mapping.get("block", []) if inner["args"]]
    values = {value for _, value in entries}
    if len(mapping["args"]) == 2 and len(values) == 1 and "default" in dict(entries):
        yield mapping["args"][1], values.pop()


def _address(block: list[dict[str, Any]]) -> str:
    """Where a server waits: its first ``listen``."""
    first = next(
        (statement["args"][0] for statement in block if statement["directive"] == "listen" and statement["args"]), "80"
    )
    if first.startswith("unix:"):
        return str(first)
    port = re.search(r":(\d+)$", first)
    return str(first) if port else f"*:{first}" if first.isdigit() else f"{first}:80"


def _secure(block: list[dict[str, Any]]) -> bool:
    return any(
        (statement["directive"] == "listen" and "ssl" in statement["args"])
        or (statement["directive"], statement["args"]) == ("ssl", ["on"])
        for statement in block
    )


def _covers_all(words: list[str]) -> bool:
    return words == ["/"] or (len(words) == 2 and words[0].startswith("~") and _WHOLE.match(words[1]) is not None)
