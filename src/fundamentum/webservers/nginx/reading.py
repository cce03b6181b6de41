"""nginx: ``fastcgi_pass`` of every server and location.  The configuration language is read by crossplane."""

import re
from collections.abc import Iterator
from functools import cache
from typing import Any, Final, Literal

from msgspec.structs import replace

from fundamentum.hosts.base import Host
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import BUILT_IN
from fundamentum.model.remark import Remark
from fundamentum.model.surrounding_facts import Barrier, Limit, Spot
from fundamentum.webservers.handoffs import Files, Handoff, HandoffsRead, is_file, sent_along, spot, unlinked
from fundamentum.webservers.nginx import BODIES, MAIN, ROOTS, WEB_SERVER, barriers, refusals, told_script
from fundamentum.webservers.nginx.inspection import Rules
from fundamentum.webservers.nginx.listening import Names, address_of, is_secure
from fundamentum.webservers.nginx.scope import DEFAULTS, Scope, own_names
from fundamentum.webservers.nginx.script_places import elsewhere, scripts_in
from fundamentum.webservers.nginx.statements import Reader, all_statements
from fundamentum.webservers.nginx.variables import filled, set_in_locations, variables_after
from fundamentum.webservers.nginx.visits import Answers, Way
from fundamentum.webservers.visit_questions import Unclear

_WHOLE: Final = lazy_regex(r"\^?(?:\(?\.[*+]\)?|\[\^/\]|/?\(\.[*+]|\.\+)*\(?\\\.\(?\??:?ph")
"""A pattern for all PHP files of a site, rather than for a part of it."""

_BODY: Final = "client_max_body_size"
Kind = Literal["socket", "web", "unclear"]


def read(host: Host) -> HandoffsRead:
    """The handoffs of all servers.  Source: nginx's documentation of its core and FastCGI modules."""
    main = next((path for path in MAIN if host.stat(path)), None)
    if main is None:
        return [], [], []
    files = Files(host, "nginx")
    reader = Reader(files, main.rpartition("/")[0])
    tree = list(reader.statements(main, 0))
    wrong = (*reader.unreadable(files.read), *refusals.refused(tree))
    upstreams = {
        statement["args"][0]: _asked_first(statement["block"])
        for statement in all_statements(tree)
        if statement["directive"] == "upstream" and statement["args"] and "block" in statement
    }
    bodies = next((path for path in BODIES if host.stat(path)), None)
    scope = Scope(
        limits={**DEFAULTS, "client_body_temp_path": Limit("client_body_temp_path", bodies)} if bodies else DEFAULTS
    )
    words = next(
        (statement["args"] for statement in tree if statement["directive"] == "user" and statement["args"]), None
    )
    if words:  # without a group, it is the one of that name
        scope = replace(scope, user=words[0], group=words[-1])
    read_by_it = list(files.read)
    idle = unlinked(host, WEB_SERVER.available, WEB_SERVER.enabled, read_by_it)
    own = next((path for path in ROOTS if host.stat(path)), None)
    at_first = [{"directive": "root", "args": [own], "origin": BUILT_IN}] if own else []
    waiting = {path: list(reader.statements(path, 1)) for path in idle}
    idle_servers = [
        statement for listed in waiting.values() for statement in listed if statement["directive"] == "server"
    ]
    of_file = {
        path: (*reader.unreadable([path]), *refusals.refused(listed, "http")) for path, listed in waiting.items()
    }
    tree = [
        {**statement, "block": [*at_first, *statement["block"], *idle_servers]}
        if statement["directive"] == "http"
        else statement
        for statement in tree
    ]
    handoffs = [
        replace(handoff, refused=(*wrong, *of_file.get(handoff.set_up.file if handoff.set_up else "", ())))
        for handoff in _Walk(host, upstreams, frozenset(idle), files.remarks).handoffs(tree, scope)
    ]
    return handoffs, read_by_it, files.remarks


class _Walk:
    """Goes down the blocks, with what each of them inherits."""

    def __init__(
        self, host: Host, upstreams: dict[str, list[str]], idle: frozenset[str], remarks: list[Remark]
    ) -> None:
        self.host, self.upstreams, self.idle = host, upstreams, idle
        self.names, self.rules = Names(remarks), Rules(host)

    def handoffs(self, tree: list[dict[str, Any]], scope: Scope) -> Iterator[Handoff]:
        """Every ``fastcgi_pass`` of the block."""
        scope = self._entered(tree, scope)
        for statement in tree:
            block = statement.get("block", [])
            match statement["directive"]:
                case "server" if "block" in statement:
                    named = [n for inner in block if inner["directive"] == "server_name" for n in inner["args"]]
                    idle = statement["origin"].file in self.idle
                    names = named if idle else self.names.left(block, named or [""], statement["origin"])
                    if not names and not idle:
                        continue
                    plain = tuple(dict.fromkeys("default" if name in ("_", "") else name for name in names))
                    inner = replace(
                        scope,
                        names=plain or ("default",),
                        inside=True,
                        set_up=statement["origin"],
                        address=address_of(block),
                        both_protocols=any(
                            line["directive"] == "listen" and line["args"][:1] and line["args"][0].startswith("[::]")
                            for line in block
                        ),
                        spot=self._spot(block),
                    )
                    yield from self._server(block, tree, replace(inner, secure=is_secure(block)))
                case "location":
                    part = scope.part if _covers_all(statement["args"]) else " ".join(statement["args"])
                    yield from self.handoffs(block, replace(scope, part=part))
                case "fastcgi_pass" if scope.part is None and scope.is_outdone(statement):
                    continue
                case "fastcgi_pass" | "proxy_pass" as name if statement["args"]:
                    refused = (*barriers.refusal(scope.rules), *barriers.returned(tree))
                    here = replace(scope, barriers=(*scope.barriers, *refused))
                    yield from (
                        self._passed(statement, here) if name == "fastcgi_pass" else self._proxied(statement, here)
                    )
                case _ if block:
                    yield from self.handoffs(block, scope)

    def _server(self, block: list[dict[str, Any]], around: list[dict[str, Any]], scope: Scope) -> Iterator[Handoff]:
        """The handoffs of one server, in what is around it.

        A body is measured wherever a request is looked up, in ``location /`` too.
        """
        scope = replace(scope, set_elsewhere=set_in_locations(block))
        inner = self._entered(block, scope)
        more_barriers = [*barriers.returned(block), *barriers.index(self.host, block, inner.root, scope.index)]
        answers = Answers(block, [around], scope.names[0])
        ways = answers.ways(lambda path: self._is_file(path, inner))
        root_there = None if inner.own_root else told_script.root_beside(block)
        met = tuple((way, tuple(self._met(block, way, inner))) for way in ways if way.handed or way.unclear)
        handed = list(
            self.handoffs(block, replace(scope, barriers=tuple(more_barriers), ways=met, root_beside=root_there))
        )
        if not handed and scope.set_up:
            yield Handoff(
                scope.names, "nginx", scope.set_up, inner.root, None, "none", "", idle=scope.set_up.file in self.idle
            )
        first = [way.handed["origin"] for way in ways if way.handed and way.uri in ("/", "/index.php")]
        fronted = tuple(
            told_script.root_of_scripts(block, inner.root if inner.own_root else None, handed, first, self.host)
        )
        several = len({(part.origin, part.part, part.target) for part in handed if part.kind != "web"}) > 1
        roots = {inner.root, root_there, *(part.root for part in handed if part.part is None)}
        there = any(is_file(self.host, f"{root.rstrip('/')}/{barriers.SCRIPT}") for root in roots if root)

        @cache  # it is the same for every line of the server that hands something on
        def barred(led: bool) -> tuple[Barrier, ...]:
            return tuple(answers.barred(lambda path: self._is_file(path, inner), led=led))

        for handoff in handed:
            stopped = [barrier for barrier in handoff.barriers if barrier.stops]
            # Where an index file alone is lacking, what is beyond it stops requests too.
            asked = there and all(barrier.lines for barrier in stopped)
            yield replace(
                handoff,
                barriers=(*handoff.barriers, *fronted, *(barred(bool(stopped)) if asked else ())),
                visit=None if handoff.aliased else answers.visit,
                first_page=handoff.first_page if several else "",
            )

    def _met(self, block: list[dict[str, Any]], way: Way, server: Scope) -> Iterator[Limit]:
        """The limits of bodies where a request is looked up, one after the other."""
        for chain in way.passed:
            scope = server
            for level in chain:
                if any(statement["directive"] == _BODY for statement in level):
                    scope = self._entered(list(level), scope)
            words = next(
                (
                    statement["args"]
                    for statement in all_statements(block)
                    if chain and statement.get("block") is chain[-1]
                ),
                None,
            )
            part = f"location {' '.join(words)}" if words else way.uri
            yield replace(scope.limits[_BODY], part=part)

    def _is_file(self, path: str, scope: Scope) -> bool:
        known = filled(path, scope.known(self.host))
        if "$" in known or not known.startswith("/"):
            raise Unclear
        return is_file(self.host, known)

    def _entered(self, tree: list[dict[str, Any]], scope: Scope) -> Scope:
        """The scope with what a block sets for everything in it."""
        kept = {name: text for name, text in scope.variables.items() if name not in scope.set_elsewhere}
        variables = variables_after(tree, kept)
        roots = [statement for statement in tree if statement["directive"] == "root" and statement["args"]]
        written = roots[-1]["args"][0] if roots else scope.root_as_written
        limits = {
            statement["directive"]: Limit(
                statement["directive"],
                statement["args"][0],
                statement["origin"],
                spot(self.host, statement["origin"], WEB_SERVER.harmless) if scope.inside else None,
            )
            for statement in tree
            if statement["directive"] in (*DEFAULTS, "client_body_temp_path") and statement["args"]
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
            index=next(((statement["args"], statement["origin"]) for statement in listed), scope.index),
            alias=next((("".join(statement["args"][:1]), statement["origin"]) for statement in leading), scope.alias),
            sent=sent or scope.sent,
            sent_here=bool(sent),
            root=filled(written, {**own_names(scope.names), **variables}) if written else None,
            own_root=roots[-1]["origin"] != BUILT_IN if roots else scope.own_root,
            root_as_written=written,
            variables=variables,
            limits={**scope.limits, **limits},
            inspected=self.rules.entered(tree, scope.inspected),
        )

    def _spot(self, block: list[dict[str, Any]]) -> Spot | None:
        """A line of the server's own block behind which another can stand: a whole statement, alone on its line."""
        spots = (
            self._alone(statement) for statement in block if statement["directive"] in ("listen", "server_name", "root")
        )
        return next(filter(None, spots), None)

    def _alone(self, statement: dict[str, Any]) -> Spot | None:
        """The line of a statement that stands whole and alone on it."""
        place = spot(self.host, statement["origin"], WEB_SERVER.harmless)
        words = place.text.strip() if place else ""
        return place if words.startswith(statement["directive"]) and words.endswith(";") else None

    def _passed(self, statement: dict[str, Any], scope: Scope) -> Iterator[Handoff]:
        target = filled(statement["args"][0], scope.known(self.host))
        layers = {name: sent_along(name, self._text(text, scope), origin) for name, text, origin in scope.sent}
        layers["elsewhere"] = elsewhere(scope.root, scope.alias, scope.sent_as_known())
        for address in self.upstreams.get(target, [target]):
            handoff = self._handoff(
                statement, scope, "unclear" if "$" in address else "socket", address.removeprefix("fastcgi://")
            )
            told = told_script.barriers(self.host, scope, statement, self._alone(statement))
            yield replace(handoff, layers=tuple(filter(None, layers.values())), barriers=(*handoff.barriers, *told))

    def _proxied(self, statement: dict[str, Any], scope: Scope) -> Iterator[Handoff]:
        """A handoff to another web server."""
        match = re.match(r"https?://([^/$]+)", statement["args"][0])
        for address in self.upstreams.get(match[1], [match[1]]) if match else ():
            port = "" if re.search(r":\d+$", address) else ":80"
            yield replace(
                self._handoff(statement, scope, "web", f"{address}{port}"),
                keeps_name=scope.host_sent in ("$host", "$http_host", "$server_name"),
            )

    def _handoff(self, statement: dict[str, Any], scope: Scope, kind: Kind, target: str) -> Handoff:
        scripts = scripts_in(scope.root, scope.alias, scope.sent_as_known())
        waits = "proxy_read_timeout" if kind != "web" else "fastcgi_read_timeout"
        return Handoff(
            scope.names,
            "nginx",
            statement["origin"],
            scripts,
            scope.part,
            kind,
            target,
            limits=(
                *scope.on_the_way(statement),
                *(limit for limit in scope.limits.values() if limit.name != waits),
                *filter(None, [scope.inspected.limit()]),
            ),
            secure=scope.secure,
            spot=scope.spot,
            user=scope.user,
            group=scope.group,
            address=scope.address,
            both_protocols=scope.both_protocols,
            barriers=scope.barriers,
            handed=self._alone(statement) if kind == "socket" else None,
            set_up=scope.set_up,
            idle=bool(scope.set_up and scope.set_up.file in self.idle),
            aliased=scripts != scope.root,
            first_page=scope.first_page(statement),
        )

    def _text(self, text: str, scope: Scope) -> str | None:
        """The value of a parameter, as it is sent; None where it depends on the request."""
        known = filled(text, scope.known(self.host))
        return None if "$" in known else known.replace("\\n", "\n").replace('\\"', '"')


def _asked_first(upstream: list[dict[str, Any]]) -> list[str]:
    """The servers of an ``upstream`` that requests go to as long as these answer."""
    servers = [statement["args"] for statement in upstream if statement["directive"] == "server" and statement["args"]]
    up = [args for args in servers if "down" not in args[1:]] or servers
    return [args[0] for args in up if "backup" not in args[1:]] or [args[0] for args in up]


def _covers_all(words: list[str]) -> bool:
    return words == ["/"] or (len(words) == 2 and words[0].startswith("~") and _WHOLE.match(words[1]) is not None)
