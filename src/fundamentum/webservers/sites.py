"""Which PHP serves which web site: what every web server's configuration hands on, and the runtime at the other end."""

import posixpath
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Final

import msgspec
from msgspec.structs import replace

from fundamentum.hosts.base import Host, HostError, text_of
from fundamentum.model.layers import Layer
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_plain
from fundamentum.model.surrounding_facts import Visit
from fundamentum.model.survey import OtherSite, Site
from fundamentum.webservers import names, part, webserver
from fundamentum.webservers.base import WebServerType
from fundamentum.webservers.handoffs import Handoff

MAX_SITES: Final = 5000
MAX_WRAPPER: Final = 64 * 1024


_UNTOLD: Final = "a PHP that cannot be told"
_OWN: Final = frozenset({"127.0.0.1", "localhost", "[::1]", "::1", "", "*", "0.0.0.0", "[::]"})


class StartedBy(msgspec.Struct, frozen=True):
    """What a web server gives a PHP that it runs, as far as it decides which files that reads."""

    ini_path: str = ""
    """The php.ini, or its directory."""
    variables: Mapping[str, str] = {}


class Sites(msgspec.Struct):
    """What all web servers hand to PHP."""

    served: tuple[Site, ...]
    idle: tuple[Site, ...]
    """Those set up in files that no web server reads."""
    files: dict[str, list[str]]
    """Web server → its configuration files."""
    remarks: list[Remark]
    starts: dict[str, "StartedBy"] = {}
    """Way of running PHP inside a web server, or program that this starts → what it gives it."""
    modules: dict[str, tuple[str, ...]] = {}
    """Web server → the modules that its configuration loads."""
    others: tuple[OtherSite, ...] = ()
    """Those that hand nothing to PHP here."""
    visits: list[tuple[str, Callable[[str], Visit]]] = []
    """For each document root of a site: what comes of an address there."""


def _may_be_here(server: WebServerType, host: Host) -> bool:
    if host.windows:
        return True
    folders = server.configuration
    return not server.windows_only and (not folders or any(host.stat(folder) for folder in folders))


def probe(host: Host, runtimes: Sequence[Runtime], visits: Sequence[str] = ()) -> Sites:
    """Every site that is handed to PHP, with the runtime that serves it, and what it makes of these addresses."""
    sites: dict[tuple[object, ...], Site] = {}
    idle: dict[tuple[object, ...], Site] = {}
    fronts: list[Handoff] = []
    starts: dict[str, StartedBy] = {}
    answers: list[tuple[str, Callable[[str], Visit]]] = []
    modules: dict[str, tuple[str, ...]] = {}
    files: dict[str, list[str]] = {}
    remarks: list[Remark] = []
    for server in names():
        files[server] = []
        if not _may_be_here(webserver(server), host):
            continue  # what reads it is not even loaded
        reader = part(server, "reading")
        if not hasattr(reader, "read"):
            continue
        try:
            handoffs, files[server], said = reader.read(host)
            remarks += said
            served = _Serving(host, runtimes)
            for handoff in handoffs:
                host.budget.tick()
                if handoff.kind in ("web", "none"):
                    fronts.append(handoff)
                    continue
                runtime = served(handoff)
                if runtime and handoff.kind == "program" and not served.is_plain(handoff, runtime):
                    why = "a script of its own starts PHP, which may set anything"
                    wrapped = Layer("start", (), Origin(handoff.target), why)
                    handoff = msgspec.structs.replace(handoff, layers=(*handoff.layers, wrapped))
                handoff = _started(handoff, runtime, starts) if runtime else handoff
                if runtime is None and not handoff.idle:
                    to = f"{handoff.target}, which is no runtime seen here" if handoff.target else _UNTOLD
                    remarks.append(Remark("web sites", f"{handoff.origin}: hands {handoff.names[0]} to {to}"))
                if handoff.modules:
                    modules[server] = tuple(name for name in handoff.modules if is_plain(name))
                if handoff.visit and handoff.root and not handoff.idle:
                    answers.append((handoff.root.rstrip("/"), handoff.visit))
                _take(idle if handoff.idle else sites, handoff, runtime, visits)
                if len(sites) + len(idle) >= MAX_SITES:
                    raise HostError(f"more than {MAX_SITES:,} sites: the rest is unknown")
        except HostError as error:
            remarks.append(Remark("web sites", str(error)))
    for key, front in _passed_on(sites, [front for front in fronts if front.kind == "web"]):
        sites[key] = _behind(sites[key], front)
    others = tuple(_others(list(sites.values()), fronts))
    return Sites(
        tuple(sites.values()),
        tuple(idle.values()),
        files,
        list(dict.fromkeys(remarks)),
        starts,
        modules,
        others,
        answers,
    )


def _others(served: Sequence[Site], fronts: Sequence[Handoff]) -> Iterator[OtherSite]:
    """The sites by whose names nothing is served that is handed to PHP here."""
    known = {name for site in served for name in (site.name, *site.aliases)}
    for front in sorted(fronts, key=lambda handoff: handoff.kind != "web"):
        if not front.idle and known.isdisjoint(front.names):
            known.update(front.names)
            yield OtherSite(front.names[0], front.server, front.origin, front.root, front.target)


def _started(handoff: Handoff, runtime: Runtime, starts: dict[str, StartedBy]) -> Handoff:
    """Notes what the web server gives this PHP; two that it gives different things read different files."""
    key = {"module": runtime.sapi, "program": runtime.program or ""}.get(handoff.kind)
    given = StartedBy(handoff.ini_path, dict(handoff.variables))
    if not key or (key not in starts and given == StartedBy() and handoff.kind == "module"):
        return handoff
    if starts.setdefault(key, given) == given or handoff.kind == "module":
        return handoff
    why = "it is started in two ways, which read different files"
    return msgspec.structs.replace(handoff, layers=(*handoff.layers, Layer("start", (), handoff.origin, why)))


def _take(
    sites: dict[tuple[object, ...], Site], handoff: Handoff, runtime: Runtime | None, visits: Sequence[str]
) -> None:
    site = _site(handoff, runtime)
    if handoff.visit:
        site = replace(site, visits={path: handoff.visit(path) for path in visits})
    key = (site.server, site.name, site.handler, site.part, _configured(site))
    same = sites.setdefault(key, site)  # often there twice, with HTTPS and without
    if site.secure and not same.secure:
        sites[key] = replace(same, secure=True)


def _site(handoff: Handoff, runtime: Runtime | None) -> Site:
    return Site(
        handoff.names[0],
        handoff.server,
        handoff.origin,
        handoff.names[1:],
        handoff.root,
        handoff.part,
        handoff.target,
        runtime.label if runtime else None,
        handoff.limits,
        handoff.secure,
        handoff.spot,
        handoff.user if is_plain(handoff.user) else None,
        handoff.group if is_plain(handoff.group) else None,
        handoff.layers,
        handoff.failing,
        handoff.address,
        both_protocols=handoff.both_protocols,
        barriers=handoff.barriers,
        identity=handoff.identity,
        visitor=handoff.visitor,
        service_pool=handoff.pool,
        set_up=handoff.set_up,
        handed=handoff.handed if handoff.handed and handoff.handed.text else None,
        first_page=handoff.first_page,
        unknown_lines=handoff.unknown_lines,
        refused=handoff.refused,
    )


def _passed_on(
    sites: Mapping[tuple[object, ...], Site], fronts: Sequence[Handoff]
) -> Iterator[tuple[tuple[object, ...], Site]]:
    """The sites that others stand in front of: those waiting where these pass requests on, by name if that is kept."""
    by_port: dict[str, list[tuple[tuple[object, ...], Site]]] = {}
    for key, site in sites.items():
        by_port.setdefault(site.address.rpartition(":")[2], []).append((key, site))
    for handoff in fronts:
        name, _, port = handoff.target.rpartition(":")
        waiting = by_port.get(port, []) if name.lower() in _OWN else []
        named = [pair for pair in waiting if {pair[1].name, *pair[1].aliases}.intersection(handoff.names)]
        first = {pair[1].name for pair in waiting[:1]}
        meant = named if named and handoff.keeps_name else [pair for pair in waiting if pair[1].name in first]
        front = _site(handoff, None)
        yield from (
            (key, front) for key, site in meant if (site.server, site.origin) != (handoff.server, handoff.origin)
        )


def _behind(site: Site, front: Site) -> Site:
    if any(
        (fronting.server, fronting.name, fronting.limits, fronting.set_up)
        == (front.server, front.name, front.limits, front.set_up)
        for fronting in site.fronts
    ):
        return site  # another part of the same
    names = [name for name in (front.name, *front.aliases) if name not in (site.name, "default")]
    aliases = tuple(dict.fromkeys((*site.aliases, *names)))
    return replace(site, fronts=(*site.fronts, front), aliases=aliases, secure=site.secure or front.secure)


def _configured(site: Site) -> tuple[object, ...]:
    """What its layers do, wherever they stand: two with the same are one site."""
    values = (tuple((v.name, v.value, v.admin) for v in layer.values) for layer in site.layers)
    kinds = ((layer.kind, layer.below, layer.unread) for layer in site.layers)
    return (site.failing, site.unknown_lines, site.root, *zip(kinds, values, strict=True))


class _Serving:
    """The runtime at the other end of a handoff.  Where each of them waits is worked out once."""

    def __init__(self, host: Host, runtimes: Iterable[Runtime]) -> None:
        self.host = host
        self._keys: dict[str, tuple[str, str]] = {}
        self._found: dict[tuple[str, str, str], Runtime] = {}
        for runtime in runtimes:
            if runtime.listen:
                self._found.setdefault(("socket", *self._socket(runtime.listen)), runtime)
            if runtime.program and runtime.sapi in ("apache2", "cgi"):
                kind = "module" if runtime.sapi == "apache2" else "program"
                for path in (runtime.program, *runtime.also):
                    self._found.setdefault((kind, self._file(path), ""), runtime)

    def __call__(self, handoff: Handoff) -> Runtime | None:
        if handoff.kind == "socket":
            return self._found.get(("socket", *self._socket(handoff.target)))
        return self._found.get((handoff.kind, self._file(handoff.target), "")) or self._wrapped(handoff)

    def _wrapped(self, handoff: Handoff) -> Runtime | None:
        """The runtime that a small script at the other end starts."""
        try:
            text = text_of(self.host, handoff.target, MAX_WRAPPER) if handoff.kind == "program" else None
        except HostError:
            return None
        started = (
            re.findall(r"^[ \t]*exec[ \t]+(/[^\s;&|]+)", text or "", re.M) if (text or "").startswith("#!") else []
        )
        return self._found.get((handoff.kind, self._file(started[0]), "")) if len(started) == 1 else None

    def is_plain(self, handoff: Handoff, runtime: Runtime) -> bool:
        """Whether what it is handed to is PHP's own program."""
        return self._file(handoff.target) in map(self._file, (runtime.program or "", *runtime.also))

    def _file(self, path: str) -> str:
        return self.host.resolve(path) or path

    def _socket(self, text: str) -> tuple[str, str]:
        if text not in self._keys:
            self._keys[text] = self._address(text)
        return self._keys[text]

    def _address(self, text: str) -> tuple[str, str]:
        """``/var/run/php/a.sock`` and ``/run/php/a.sock`` are one socket; all ways to this machine itself are one."""
        if text.startswith(("unix:", "/")):
            return _folder_followed(self.host, posixpath.normpath(text.removeprefix("unix:"))), ""
        name, _, port = text.rpartition(":")
        return ("" if name.lower() in _OWN else name.lower()), port


def _folder_followed(host: Host, path: str) -> str:
    """``/var/run/php/a.sock`` and ``/run/php/a.sock`` are one socket, whether it exists now or not."""
    folder, name = posixpath.split(path)
    missing: list[str] = []
    while folder not in ("/", "") and not host.resolve(folder):
        folder, last = posixpath.split(folder)
        missing.insert(0, last)
    return posixpath.join(host.resolve(folder) or folder or "/", *missing, name)
