"""Apache: which handler each virtual host gives to PHP files, and what it allows a request."""

import posixpath
import re
from collections.abc import Container, Iterator, Sized
from typing import Final, Literal

import msgspec

from fundamentum.hosts.base import Host, HostError
from fundamentum.hosts.windows_directory import folders
from fundamentum.model.origin import Origin
from fundamentum.model.remark import Remark
from fundamentum.model.surroundings import Limit, Spot
from fundamentum.webservers.apache2 import WEB_SERVER, barriers, layers
from fundamentum.webservers.apache2.lines import Line, Reader, Section, windows_style
from fundamentum.webservers.handoffs import Files, Found, Handoff, spot, unlinked

MAIN: Final = ("/etc/apache2/apache2.conf", "/etc/httpd/conf/httpd.conf", "/usr/local/apache2/conf/httpd.conf")
MAX_OF_ONE_HOST: Final = 500
"""Lines of one kind in one virtual host, or in the main server."""
_PLACES: Final = frozenset({"directory", "directorymatch", "location", "locationmatch"})
ALLOWANCES: Final = {
    name.lower(): name
    for name in (
        "LimitRequestBody",
        "Timeout",
        "ProxyTimeout",
        "FcgidMaxRequestLen",
        "FcgidIOTimeout",
        "FcgidBusyTimeout",
    )
}
FCGID: Final = {"FcgidMaxRequestLen": "131072", "FcgidIOTimeout": "40", "FcgidBusyTimeout": "300"}
"""mod_fcgid's own limits and their built-in values, from its documentation."""
_PHP_TYPE: Final = re.compile(r"application/x-httpd-(?:ea-)?php[0-9.]*")


class Handler(msgspec.Struct, frozen=True):
    """One line that gives PHP files to something."""

    place: Section | None
    rank: int
    """Files sections outrank directories, locations outrank both, and what is passed on by address comes first."""
    kind: Literal["socket", "module", "program", "unclear"]
    target: str
    origin: Origin
    timeout: Limit | None = None
    """How long it is waited for, if that is said for it alone."""
    fcgid: bool = False
    """Whether it is run by mod_fcgid, which has limits of its own."""


class Allowance(msgspec.Struct, frozen=True):
    """One line that limits requests, and the part of a host it is for."""

    place: Section | None
    limit: Limit


class VirtualHost(msgspec.Struct):
    """A virtual host, or the main server."""

    names: list[str] = msgspec.field(default_factory=list)
    set_up: Origin | None = None
    root: str | None = None
    handlers: list[Handler] = msgspec.field(default_factory=list)
    allowances: list[Allowance] = msgspec.field(default_factory=list)
    secure: bool = False
    address: str = ""
    """Where it waits: the first address of its section, or the main server's first ``Listen``."""
    spot: Spot | None = None
    user: str | None = None
    lines: list[Line] = msgspec.field(default_factory=list)
    """What is said about PHP's configuration."""
    guards: list[Line] = msgspec.field(default_factory=list)
    """What is said about who may ask, and which file answers for a directory."""
    addresses: str = ""
    waits: dict[str, Limit] = msgspec.field(default_factory=dict)
    """The address of something proxied, as its section names it → how long it is waited for."""

    def is_in(self, files: Container[str]) -> bool:
        """Whether it is set up in one of these files."""
        return self.set_up is not None and self.set_up.file in files


def read(host: Host) -> Found:
    """The handoffs of all virtual hosts.  Source: Apache's documentation of sections, handlers and proxying."""
    handoffs: list[Handoff] = []
    files = Files(host, "Apache")
    for main, root in _mains(host):
        reader = Reader(files, root)
        lines = list(reader.lines(main, (), 0))
        read = list(files.read)
        idle = unlinked(host, WEB_SERVER.available, WEB_SERVER.enabled, read) if root in WEB_SERVER.available else []
        more = [line for path in idle for line in reader.lines(path, (), 0) if line.within("virtualhost")]
        handoffs += _handoffs(host, [*lines, *more], reader, frozenset(idle))
        files.read[:] = read
    return handoffs, files.read, files.remarks


def _mains(host: Host) -> Iterator[tuple[str, str]]:
    """Main configuration files, and the directory that relative paths in them start from."""
    if host.windows:
        for folder, names in folders(host):
            if posixpath.basename(folder).lower() == "conf" and "httpd.conf" in names:
                yield posixpath.join(folder, "httpd.conf"), posixpath.dirname(folder)
        return
    for path in MAIN:
        if host.stat(path):
            yield path, "/etc/apache2" if "apache2.conf" in path else posixpath.dirname(posixpath.dirname(path))


def _handoffs(host: Host, lines: list[Line], reader: Reader, idle: frozenset[str]) -> Iterator[Handoff]:
    main = VirtualHost()
    virtual: dict[int, VirtualHost] = {}
    programs = _programs(lines)
    listens = [line.words[0] for line in lines if line.name == "listen" and line.words]
    for line in lines:
        section = line.within("virtualhost")
        mine = (
            virtual.setdefault(
                section.number,
                VirtualHost(spot=spot(host, section.origin, WEB_SERVER.harmless), set_up=section.origin),
            )
            if section
            else main
        )
        if section and not mine.address:
            mine.address, mine.addresses = next(iter(section.words.split()), ""), section.words
        match line.name:
            case "listen" if line.words and not section and not main.address:
                main.address = line.words[0] if ":" in line.words[0] else f"*:{line.words[0]}"
            case "user" if line.words and not section:
                main.user = line.words[0]
            case "sslengine" if line.words:
                mine.secure = line.words[0].lower() == "on"
            case "proxyset" if proxy := line.within("proxy"):
                waits = _waits(host, line)
                mine.waits |= {proxy.words: waits} if waits else {}
            case name if name in ALLOWANCES and line.words:
                place = line.within(*_PLACES)
                own = spot(host, line.origin, WEB_SERVER.harmless) if section or place else None
                limit = Limit(ALLOWANCES[name], line.words[0], line.origin, own)
                _bounded(mine.allowances, line)
                mine.allowances.append(Allowance(place, limit))
            case "servername" if line.words:
                mine.names.insert(0, re.sub(r"^\w+://|:\d+$", "", line.words[0]))
            case "serveralias":
                mine.names += line.words
            case "documentroot" if line.words:
                mine.root = windows_style(host, line.words[0])
            case name if name in barriers.NAMES and len(mine.guards) < MAX_OF_ONE_HOST:
                mine.guards.append(line)
            case _ if layers.matters(line):
                _bounded(mine.lines, line)
                mine.lines.append(line)
            case _:
                found = _handler(host, line, reader.modules, programs)
                _bounded(mine.handlers, line)
                mine.handlers += [found] if found else []
    hosts = list(virtual.values())
    for mine in hosts if any(not one.is_in(idle) for one in hosts) else [main, *hosts]:
        host.budget.tick()
        for handoff, handler in _of_host(mine, main):
            guards = [*main.guards, *(mine.guards if mine is not main else [])]
            lines_of_host = mine.lines if mine is not main else []
            added = layers.layers_of(host, main.lines, lines_of_host, handoff.root, handoff.kind, reader)
            if added.handler:
                why = f"{added.handler}: hands PHP files to something else, which is not followed"
                reader.files.remarks.append(Remark("web sites", why))
            yield msgspec.structs.replace(
                handoff,
                layers=tuple(added.layers),
                failing=_failing(added),
                kind="unclear" if added.handler else handoff.kind,
                limits=tuple(_limits(handoff, handler, mine, main)),
                secure=mine.secure,
                address=mine.address,
                barriers=(
                    *barriers.unheard(mine.addresses, listens, mine.set_up),
                    *barriers.barriers(host, [*guards, *added.guards], handoff.root),
                ),
                set_up=mine.set_up,
                idle=mine.is_in(idle),
                spot=mine.spot,
                user=main.user,
            )


def _failing(added: layers.Found) -> str:
    """Why every request of the site fails, as a sentence; empty if it does not."""
    return f"{added.failing.origin}: {added.failing.why}" if added.failing else ""


def _bounded(lines: Sized, line: Line) -> None:
    if len(lines) >= MAX_OF_ONE_HOST:
        raise HostError(f"{line.origin}: more than {MAX_OF_ONE_HOST} such lines for one host: sites are unknown")


def _limits(found: Handoff, handler: Handler, mine: VirtualHost, main: VirtualHost) -> Iterator[Limit]:
    """What is allowed a request to one site, each limit as its most special line has it.

    Source: Apache's documentation: directories that hold the site outrank the host, locations outrank both, and the
    host outranks the main server.
    """
    hosts = [main] if mine is main else [main, mine]
    last: dict[str, tuple[tuple[int, int, int], Limit]] = {}
    for nearer, host in enumerate(hosts):
        for one in host.allowances:
            if _holds_all(one.place, found.root) or one.place == handler.place:
                kind = 0 if one.place is None else 2 if one.place.kind.startswith("location") else 1
                rank = (kind, len(one.place.words) if one.place else 0, nearer)
                if one.limit.name not in last or rank >= last[one.limit.name][0]:
                    last[one.limit.name] = (rank, one.limit)
    set_here = {name: limit for name, (_, limit) in last.items()}
    yield set_here.get("LimitRequestBody", Limit("LimitRequestBody", ""))
    if found.kind == "socket":
        whole = set_here.get("Timeout", Limit("Timeout", "60"))
        general = set_here.get("ProxyTimeout", Limit("ProxyTimeout", whole.value, whole.origin))
        special = (limit for host in hosts for words, limit in host.waits.items() if found.target in words)
        yield handler.timeout or next(special, None) or general
    elif found.kind == "program" and handler.fcgid:
        for name, value in FCGID.items():
            yield set_here.get(name, Limit(name, value))


def _waits(host: Host, line: Line) -> Limit | None:
    """``timeout=30`` among the words of a line."""
    found = next((word.partition("=")[2] for word in line.words if word.lower().startswith("timeout=")), None)
    return Limit("timeout", found, line.origin) if found else None


def _programs(lines: list[Line]) -> dict[str, str]:
    """Type of a file → the CGI program that an ``Action`` line runs for it."""
    aliases = {line.words[0]: line.words[1] for line in lines if line.name == "scriptalias" and len(line.words) > 1}
    found = {}
    for line in lines:
        if line.name == "action" and len(line.words) > 1:
            path = line.words[1]
            alias = next((one for one in sorted(aliases, key=len, reverse=True) if path.startswith(one)), None)
            found[line.words[0]] = aliases[alias] + path[len(alias) :] if alias else path
    return found


def _handler(host: Host, line: Line, modules: dict[str, str], programs: dict[str, str]) -> Handler | None:
    first, rest = (line.words[0], line.words[1:]) if line.words else ("", ())
    files = line.within("filesmatch", "files")
    if files and "ph" not in files.words.lower():
        return None
    place = line.within(*_PLACES)
    rank = 2 if place and place.kind.startswith("location") else 1 if files else 0
    found: tuple[Literal["socket", "module", "program", "unclear"], str] | None = None
    match line.name:
        case "sethandler":
            found = _socket(first.removeprefix("proxy:")) if first.startswith("proxy:") else None
            found = found or (_inside(host, first, modules, programs) if _PHP_TYPE.fullmatch(first) else None)
        case "addhandler" | "addtype" if _PHP_TYPE.fullmatch(first) and any(e.lstrip(".") == "php" for e in rest):
            found = _inside(host, first, modules, programs)
        case "proxypassmatch" | "proxypass" if rest:
            found, rank = _socket(rest[0]), 3
            whole = "ph" in first.lower() and line.name == "proxypassmatch"
            place = place if whole or first == "/" else Section("location", first, 0)
        case "fcgidwrapper" if not rest or rest[0].lstrip(".") == "php":
            found = ("program", windows_style(host, first.split()[0] if first else ""))
    waits = _waits(host, line) if rank == 3 else None
    return Handler(place, rank, *found, line.origin, waits, line.name == "fcgidwrapper") if found else None


def _socket(text: str) -> tuple[Literal["socket"], str] | None:
    """``unix:/run/php.sock|fcgi://localhost`` or ``fcgi://127.0.0.1:9000/srv``."""
    if match := re.match(r"unix:([^|]+)\|fcgi:", text):
        return "socket", f"unix:{match[1]}"
    match = re.match(r"fcgi://([^/]+)", text)
    return ("socket", match[1]) if match else None


def _inside(
    host: Host, kind: str, modules: dict[str, str], programs: dict[str, str]
) -> tuple[Literal["module", "program"], str] | None:
    module = next((file for name, file in modules.items() if re.fullmatch(r"php\d?_module", name)), None)
    if module:
        return "module", windows_style(host, module)
    return ("program", programs[kind]) if kind in programs else None


def _of_host(mine: VirtualHost, main: VirtualHost) -> Iterator[tuple[Handoff, Handler]]:
    """What serves a whole host, then the parts of it that are served by something else."""
    root = mine.root or main.root
    handlers = list(enumerate([*main.handlers, *(mine.handlers if mine is not main else [])]))
    whole = [one for one in handlers if _holds_all(one[1].place, root)]
    winner = max(whole, key=lambda one: (one[1].rank, one[0]), default=None)
    parts: dict[str, tuple[int, Handler]] = {}
    for at, one in handlers:
        outranks = winner is None or (one.rank, at) > (winner[1].rank, winner[0])
        if one.place and (at, one) not in whole and _is_part(one.place, root) and outranks:
            parts[one.place.words] = (at, one)
    names = tuple(dict.fromkeys(mine.names)) or ("default",)
    for part, (_, one) in [(None, winner)] if winner else []:
        yield Handoff(names, "apache2", one.origin, root, part, one.kind, one.target), one
    for words, (_, one) in parts.items():
        yield Handoff(names, "apache2", one.origin, root, words, one.kind, one.target), one


def _holds_all(place: Section | None, root: str | None) -> bool:
    if place is None or place.words in ("/", "~ /"):
        return True
    folder = place.words.rstrip("/")
    return place.kind == "directory" and root is not None and f"{root.rstrip('/')}/".startswith(f"{folder}/")


def _is_part(place: Section, root: str | None) -> bool:
    if place.kind.startswith("location"):
        return True
    return root is not None and place.words.startswith(root.rstrip("/") + "/")
