"""nginx: ``fastcgi_pass`` of every server and location.  The configuration language is read by crossplane."""

import re
from collections.abc import Iterator
from typing import Any, Final, Literal

import msgspec
from msgspec.structs import replace

from fundamentum.hosts.base import MAX_TEXT, Host, HostError
from fundamentum.model.layers import Layer
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.remark import Remark
from fundamentum.model.surroundings import Barrier, Limit, Spot
from fundamentum.webservers.handoffs import MAX_SENT, Files, Found, Handoff, sent_along, spot, unlinked
from fundamentum.webservers.nginx import BODIES, MAIN, WEB_SERVER, barriers

_MAX_DEPTH: Final = 40
"""Blocks and included files within one another."""
_MAX_BLOCKS: Final = 30
"""Blocks within blocks."""
_MAX_STATEMENTS: Final = 50_000
"""Statements of one file: lists of addresses of that length are kept elsewhere."""
_MAX_ALL: Final = 200_000
"""Statements of the whole configuration, included ones counted each time."""
_VARIABLE: Final = re.compile(r"\$\{?(\w+)\}?")
_WHOLE: Final = re.compile(r"\^?(?:\(?\.[*+]\)?|\[\^/\]|/?\(\.[*+]|\.\+)*\(?\\\.\(?\??:?ph")
"""A pattern for all PHP files of a site, rather than for a part of it."""


DEFAULTS: Final = {
    "client_max_body_size": Limit("client_max_body_size", "1m"),
    "fastcgi_read_timeout": Limit("fastcgi_read_timeout", "60s"),
    "proxy_read_timeout": Limit("proxy_read_timeout", "60s"),
}
"""Source: nginx's documentation of its core and FastCGI modules."""


class _Scope(msgspec.Struct, frozen=True):
    """What surrounds a directive."""

    names: tuple[str, ...] = ("default",)
    root: str | None = None
    part: str | None = None
    variables: dict[str, str] = {}
    limits: dict[str, Limit] = msgspec.field(default_factory=DEFAULTS.copy)
    set_up: Origin | None = None
    """The beginning of the server's block."""
    inside: bool = False
    """Whether this is one server's own block."""
    secure: bool = False
    spot: Spot | None = None
    user: str | None = None
    """As whom the server works."""
    alias: Origin | None = None
    """The line that leads the location's requests to another directory than the root."""
    rules: tuple[tuple[str, str, Origin], ...] = ()
    """Who may ask: ``allow`` and ``deny``, in order.  A block with any of its own inherits none."""
    index: tuple[list[str], Origin] = ((["index.html"]), BUILT_IN)
    barriers: tuple[Barrier, ...] = ()
    address: str = "*:80"
    """Where the server waits."""
    host_sent: str = "$proxy_host"
    """The name of the site that another web server is asked for."""
    sent: tuple[tuple[str, str, Origin], ...] = ()
    """FastCGI parameters.  A block with any of its own inherits none."""


Kind = Literal["socket", "web", "unclear"]
_ROOTS: Final = ("$document_root", "$realpath_root", "$request_filename", "${document_root}", "${realpath_root}")


def read(host: Host) -> Found:
    """The handoffs of all servers.  Source: nginx's documentation of its core and FastCGI modules."""
    main = next((path for path in MAIN if host.stat(path)), None)
    if main is None:
        return [], [], []
    files = Files(host, "nginx")
    reader = _Reader(files, main.rpartition("/")[0])
    tree = list(reader.statements(main, 0))
    upstreams = {
        one["args"][0]: [inner["args"][0] for inner in one["block"] if inner["directive"] == "server" and inner["args"]]
        for one in _all(tree)
        if one["directive"] == "upstream" and one["args"] and "block" in one
    }
    bodies = next((path for path in BODIES if host.stat(path)), None)
    scope = _Scope(
        limits={**DEFAULTS, "client_body_temp_path": Limit("client_body_temp_path", bodies)} if bodies else DEFAULTS
    )
    user = next((one["args"][0] for one in tree if one["directive"] == "user" and one["args"]), None)
    scope = replace(scope, user=user)
    read_by_it = list(files.read)
    idle = unlinked(host, WEB_SERVER.available, WEB_SERVER.enabled, read_by_it)
    more = [one for path in idle for one in reader.statements(path, 1) if one["directive"] == "server"]
    tree = [{**one, "block": [*one["block"], *more]} if one["directive"] == "http" else one for one in tree]
    return list(_Walk(host, upstreams, frozenset(idle)).handoffs(tree, scope)), read_by_it, files.remarks


class _Reader:
    def __init__(self, files: Files, folder: str) -> None:
        self.files, self.folder = files, folder
        self._trees: dict[str, list[dict[str, Any]]] = {}
        self._left = _MAX_ALL

    def statements(self, path: str, depth: int) -> Iterator[dict[str, Any]]:
        """The statements of a file, with those of the files it includes in their place."""
        text = self.files.text(path) if depth < _MAX_DEPTH else None
        if text is None:
            return
        if path not in self._trees:
            self._trees[path] = self._parsed(path, text)
        yield from self._expanded(self._trees[path], path, depth)

    def _parsed(self, path: str, text: str) -> list[dict[str, Any]]:
        import tempfile  # noqa: PLC0415 — slow to import, and only where nginx is

        import crossplane  # noqa: PLC0415

        if why := _oversized(text):
            self.files.remarks.append(Remark("web sites", f"{path}: {why}: not read, sites set up there are unknown"))
            return []
        try:
            with tempfile.NamedTemporaryFile("w", suffix=".conf", encoding="utf-8") as copy:  # it reads from paths only
                copy.write(text)
                copy.flush()
                found = crossplane.parse(copy.name, single=True, check_ctx=False, check_args=False)
        except Exception as error:  # whatever its parser stumbles over must not end the survey
            found = {"errors": [{"error": str(error), "line": None}], "config": []}
        for problem in found["errors"]:
            where = f"{path}:{problem['line']}" if problem["line"] else path
            why = str(problem["error"]).partition(" in /")[0][:200]
            self.files.remarks.append(Remark("web sites", f"{where}: nginx cannot read this file ({why})"))
        return [statement for one in found["config"] for statement in one["parsed"]]

    def _expanded(self, tree: list[dict[str, Any]], path: str, depth: int) -> Iterator[dict[str, Any]]:
        for one in tree:
            self._left -= 1
            if self._left < 0:
                raise HostError(f"{path}: nginx has no end of included files: sites set up from there on are unknown")
            if one["directive"] == "include" and one["args"]:
                for included in self.files.included(self.folder, one["args"][0]):
                    yield from self.statements(included, depth + 1)
            else:
                block = {"block": list(self._expanded(one["block"], path, depth + 1))} if "block" in one else {}
                yield {**one, **block, "origin": Origin(path, one["line"])}


def _oversized(text: str) -> str:
    """Why a file is not one that a person wrote; empty if it may be."""
    if text.count(";") + text.count("{") > _MAX_STATEMENTS or len(text) > MAX_TEXT // 2:
        return "larger than any configuration of a site"
    depth = deepest = 0
    for match in re.finditer(r"[{}]", text):
        depth += 1 if match[0] == "{" else -1
        deepest = max(deepest, depth)
    return "nested too deeply" if deepest > _MAX_BLOCKS else ""


def _all(tree: list[dict[str, Any]]) -> Iterator[dict[str, Any]]:
    for one in tree:
        yield one
        yield from _all(one.get("block", []))


class _Walk:
    """Goes down the blocks, with what each of them inherits."""

    def __init__(self, host: Host, upstreams: dict[str, list[str]], idle: frozenset[str]) -> None:
        self.host, self.upstreams, self.idle = host, upstreams, idle

    def handoffs(self, tree: list[dict[str, Any]], scope: _Scope) -> Iterator[Handoff]:
        """Every ``fastcgi_pass`` of the block."""
        scope = self._entered(tree, scope)
        for one in tree:
            block = one.get("block", [])
            match one["directive"]:
                case "server" if "block" in one:
                    names = [n for inner in block if inner["directive"] == "server_name" for n in inner["args"]]
                    plain = tuple(dict.fromkeys("default" if name in ("_", "") else name for name in names))
                    inner = replace(
                        scope,
                        names=plain or ("default",),
                        inside=True,
                        set_up=one["origin"],
                        address=_address(block),
                        spot=self._spot(block),
                    )
                    yield from self._server(block, replace(inner, secure=_secure(block)))
                case "location":
                    part = scope.part if _covers_all(one["args"]) else " ".join(one["args"])
                    yield from self.handoffs(block, replace(scope, part=part))
                case "fastcgi_pass" if one["args"]:
                    refused = (*barriers.refusal(scope.rules), *barriers.returned(tree))
                    yield from self._passed(one, replace(scope, barriers=(*scope.barriers, *refused)))
                case "proxy_pass" if one["args"]:
                    yield from self._proxied(one, scope)
                case _ if block:
                    yield from self.handoffs(block, scope)

    def _server(self, block: list[dict[str, Any]], scope: _Scope) -> Iterator[Handoff]:
        """The handoffs of one server.  A body is measured wherever a request is looked up, in ``location /`` too."""
        front = next(
            (
                one["block"]
                for one in block
                if one["directive"] == "location" and one["args"] == ["/"] and "block" in one
            ),
            None,
        )
        first = self._entered(front, self._entered(block, scope)).limits["client_max_body_size"] if front else None
        inner = self._entered(block, scope)
        more_barriers = [*barriers.returned(block), *barriers.index(self.host, block, inner.root, scope.index)]
        for found in self.handoffs(block, replace(scope, barriers=tuple(more_barriers))):
            mine = next(limit for limit in found.limits if limit.name == "client_max_body_size")
            apart = first is not None and (first.value, first.origin) != (mine.value, mine.origin)
            more = (replace(first, part="location /"),) if first and apart else ()
            yield replace(found, limits=(*more, *found.limits))

    def _entered(self, tree: list[dict[str, Any]], scope: _Scope) -> _Scope:
        """The scope with what a block sets for everything in it."""
        variables = {
            one["args"][0]: one["args"][1] for one in tree if one["directive"] == "set" and len(one["args"]) == 2
        }
        variables |= {name: text for one in tree if one["directive"] == "map" for name, text in _constant(one)}
        roots = [one["args"][0] for one in tree if one["directive"] == "root" and one["args"]]
        limits = {
            one["directive"]: Limit(
                one["directive"],
                one["args"][0],
                one["origin"],
                spot(self.host, one["origin"], WEB_SERVER.harmless) if scope.inside else None,
            )
            for one in tree
            if one["directive"] in (*DEFAULTS, "client_body_temp_path") and one["args"]
        }
        sent = tuple(
            (one["args"][0], one["args"][1], one["origin"])
            for one in tree
            if one["directive"] == "fastcgi_param" and len(one["args"]) > 1
        )
        headers = [
            one["args"][1] for one in tree if one["directive"] == "proxy_set_header" and one["args"][0:1] == ["Host"]
        ]
        listed = [one for one in tree if one["directive"] == "index" and one["args"]]
        return replace(
            scope,
            rules=barriers.access(tree, scope.rules),
            host_sent=next((value for name, value in headers if name == "Host"), scope.host_sent),
            index=next(((one["args"], one["origin"]) for one in listed), scope.index),
            alias=next((one["origin"] for one in tree if one["directive"] == "alias"), scope.alias),
            sent=sent or scope.sent,
            root=roots[-1] if roots else scope.root,
            variables={**scope.variables, **variables},
            limits={**scope.limits, **limits},
        )

    def _spot(self, block: list[dict[str, Any]]) -> Spot | None:
        """A line of the server's own block behind which another can stand: a whole statement, alone on its line."""
        for one in block:
            if one["directive"] in ("listen", "server_name", "root") and (
                found := spot(self.host, one["origin"], WEB_SERVER.harmless)
            ):
                words = found.text.strip()
                if words.startswith(one["directive"]) and words.endswith(";"):
                    return found
        return None

    def _passed(self, one: dict[str, Any], scope: _Scope) -> Iterator[Handoff]:
        target = _VARIABLE.sub(lambda m: scope.variables.get(f"${m[1]}", m[0])[:500], one["args"][0][:500])
        layers = {name: sent_along(name, self._text(text, scope), origin) for name, text, origin in scope.sent}
        layers["elsewhere"] = _elsewhere(scope)
        for address in self.upstreams.get(target, [target]):
            found = self._handoff(
                one, scope, "unclear" if "$" in address else "socket", address.removeprefix("fastcgi://")
            )
            yield replace(found, layers=tuple(filter(None, layers.values())))

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
            scope.root,
            scope.part,
            kind,
            target,
            limits=tuple(limit for limit in scope.limits.values() if limit.name != waits),
            secure=scope.secure,
            spot=scope.spot,
            user=scope.user,
            address=scope.address,
            barriers=scope.barriers,
            set_up=scope.set_up,
            idle=bool(scope.set_up and scope.set_up.file in self.idle),
        )

    def _text(self, text: str, scope: _Scope) -> str | None:
        """The value of a parameter, as it is sent; None where it depends on the request."""
        filled = _VARIABLE.sub(lambda found: scope.variables.get(f"${found[1]}", found[0])[:500], text[:MAX_SENT])
        return None if _VARIABLE.search(filled) else filled.replace("\\n", "\n").replace('\\"', '"')


def _elsewhere(scope: _Scope) -> Layer | None:
    """What makes other files of directories count than those in the document root: which, is not followed."""
    sent = {name: (text, origin) for name, text, origin in scope.sent}
    for name in ("DOCUMENT_ROOT", "SCRIPT_FILENAME"):
        text, origin = sent.get(name, ("", None))
        usual = (*_ROOTS, *((scope.root,) if scope.root else ()))
        if origin and not (text in usual or (name == "SCRIPT_FILENAME" and text.startswith(usual))):
            why = f"{name} is sent as {text[:200]}, so files of other directories count"
            return Layer("user-ini", (), origin, why)
    return Layer("user-ini", (), scope.alias, "an alias leads to another directory") if scope.alias else None


def _constant(mapping: dict[str, Any]) -> Iterator[tuple[str, str]]:
    """The variable of a ``map`` that has the same value for every request."""
    entries = [(inner["directive"], inner["args"][0]) for inner in mapping.get("block", []) if inner["args"]]
    values = {value for _, value in entries}
    if len(mapping["args"]) == 2 and len(values) == 1 and "default" in dict(entries):
        yield mapping["args"][1], values.pop()


def _address(block: list[dict[str, Any]]) -> str:
    """Where a server waits: its first ``listen``."""
    first = next((one["args"][0] for one in block if one["directive"] == "listen" and one["args"]), "80")
    if first.startswith("unix:"):
        return str(first)
    port = re.search(r":(\d+)$", first)
    return str(first) if port else f"*:{first}" if first.isdigit() else f"{first}:80"


def _secure(block: list[dict[str, Any]]) -> bool:
    return any(
        (one["directive"] == "listen" and "ssl" in one["args"]) or (one["directive"], one["args"]) == ("ssl", ["on"])
        for one in block
    )


def _covers_all(words: list[str]) -> bool:
    return words == ["/"] or (len(words) == 2 and words[0].startswith("~") and _WHOLE.match(words[1]) is not None)
