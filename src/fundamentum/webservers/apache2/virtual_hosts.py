"""Apache's virtual hosts: what the lines of each say about handing on, limits, PHP's configuration and who may ask."""

import re
from collections.abc import Iterable, Sequence, Sized
from typing import Final, Literal

import msgspec

from fundamentum.hosts.base import Host, HostError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Limit, Spot
from fundamentum.webservers.apache2 import WEB_SERVER, barriers, layers, visits
from fundamentum.webservers.apache2.lines import Line, Section, windows_style
from fundamentum.webservers.handoffs import spot

MAX_OF_ONE_HOST: Final = 500
"""Lines of one kind in one virtual host, or in the main server."""
PLACES: Final = frozenset({"directory", "directorymatch", "location", "locationmatch"})
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
_PHP_TYPE: Final = lazy_regex(r"application/x-httpd-(?:ea-)?php[0-9.]*")


class Handler(msgspec.Struct, frozen=True):
    """One line that gives PHP files to something."""

    place: Section | None
    rank: int
    """Files sections outrank directories, locations outrank both, and what is passed on by address comes first."""
    kind: Literal["socket", "module", "program", "web", "unclear"]
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
    ini_path: str = ""
    """Where PHP inside Apache is told to look for its php.ini."""
    keeps_name: bool = False
    """Whether other web servers are asked by the name that the visitor used."""
    listens: list[str] = msgspec.field(default_factory=list)
    """Where the main server listens."""
    waits: dict[str, Limit] = msgspec.field(default_factory=dict)
    """The address of something proxied, as its section names it → how long it is waited for."""

    def joined(self, other: "VirtualHost") -> "VirtualHost":
        """The main server with the lines of another file that stand outside of hosts there too."""
        return msgspec.structs.replace(
            self,
            handlers=[*self.handlers, *other.handlers],
            allowances=[*self.allowances, *other.allowances],
            lines=[*self.lines, *other.lines],
            guards=[*self.guards, *other.guards],
            listens=[*self.listens, *other.listens],
            waits={**self.waits, **other.waits},
        )


class Hosts:
    """Takes lines into hosts: the main server's, and those of each virtual host."""

    def __init__(self, host: Host, modules: dict[str, str], programs: dict[str, str]) -> None:
        self.host, self.modules, self.programs = host, modules, programs

    def of(self, lines: Iterable[Line]) -> tuple[VirtualHost, list[VirtualHost]]:
        """The main server, and the virtual hosts in the order in which they are set up."""
        main = VirtualHost()
        virtual: dict[int, VirtualHost] = {}
        for line in lines:
            section = line.within("virtualhost")
            if section and section.number not in virtual:
                place = spot(self.host, section.origin, WEB_SERVER.harmless)
                fresh = VirtualHost(spot=place, set_up=section.origin, addresses=section.words)
                fresh.address = next(iter(section.words.split()), "")
                virtual[section.number] = fresh
            self._take(line, section, virtual[section.number] if section else main)
        return main, list(virtual.values())

    def handler_of(self, line: Line) -> Handler | None:
        """What a line hands PHP files to; None if that is not known."""
        return _handler(self.host, line, self.modules, self.programs)

    def _take(self, line: Line, section: Section | None, mine: VirtualHost) -> None:
        if line.name in barriers.NAMES | visits.NAMES:
            _bounded(mine.guards, line)
            mine.guards.append(line)
        match line.name:
            case "listen" if line.words and not section:
                mine.listens.append(line.words[0])
                mine.address = mine.address or (line.words[0] if ":" in line.words[0] else f"*:{line.words[0]}")
            case "user" if line.words and not section:
                mine.user = line.words[0]
            case "phpinidir" if line.words and not mine.ini_path:  # only the first one counts
                mine.ini_path = windows_style(self.host, line.words[0])
            case "proxypreservehost" if line.words:
                mine.keeps_name = line.words[0].lower() == "on"
            case "sslengine" if line.words:
                mine.secure = line.words[0].lower() == "on"
            case "proxyset" if proxy := line.within("proxy"):
                waits = _waits(self.host, line)
                mine.waits |= {proxy.words: waits} if waits else {}
            case name if name in ALLOWANCES and line.words:
                place = line.within(*PLACES)
                own = spot(self.host, line.origin, WEB_SERVER.harmless) if section or place else None
                limit = Limit(ALLOWANCES[name], line.words[0], line.origin, own)
                _bounded(mine.allowances, line)
                mine.allowances.append(Allowance(place, limit))
            case "servername" if line.words:
                mine.names.insert(0, re.sub(r"^\w+://|:\d+$", "", line.words[0]))
            case "serveralias":
                mine.names += line.words
            case "documentroot" if line.words:
                mine.root = windows_style(self.host, line.words[0])
            case _ if layers.matters(line):
                _bounded(mine.lines, line)
                mine.lines.append(line)
            case _:
                handler = _handler(self.host, line, self.modules, self.programs)
                _bounded(mine.handlers, line)
                mine.handlers += [handler] if handler else []


def _bounded(lines: Sized, line: Line) -> None:
    if len(lines) >= MAX_OF_ONE_HOST:
        raise HostError(f"{line.origin}: more than {MAX_OF_ONE_HOST} such lines for one host: sites are unknown")


def _waits(host: Host, line: Line) -> Limit | None:
    """``timeout=30`` among the words of a line."""
    found = next((word.partition("=")[2] for word in line.words if word.lower().startswith("timeout=")), None)
    return Limit("timeout", found, line.origin) if found else None


def programs_of(lines: Sequence[Line]) -> dict[str, str]:
    """Type of a file → the CGI program that an ``Action`` line runs for it."""
    aliases = {line.words[0]: line.words[1] for line in lines if line.name == "scriptalias" and len(line.words) > 1}
    found = {}
    for line in lines:
        if line.name == "action" and len(line.words) > 1:
            path = line.words[1]
            alias = next((aliase for aliase in sorted(aliases, key=len, reverse=True) if path.startswith(aliase)), None)
            found[line.words[0]] = aliases[alias] + path[len(alias) :] if alias else path
    return found


def _handler(host: Host, line: Line, modules: dict[str, str], programs: dict[str, str]) -> Handler | None:
    first, rest = (line.words[0], line.words[1:]) if line.words else ("", ())
    files = line.within("filesmatch", "files")
    if files and "ph" not in files.words.lower():
        return None
    place = line.within(*PLACES)
    rank = 2 if place and place.kind.startswith("location") else 1 if files else 0
    found: tuple[Literal["socket", "module", "program", "web", "unclear"], str] | None = None
    match line.name:
        case "sethandler":
            found = _socket(first.removeprefix("proxy:")) if first.startswith("proxy:") else None
            found = found or (_inside(host, first, modules, programs) if _PHP_TYPE.fullmatch(first) else None)
        case "addhandler" | "addtype" if _PHP_TYPE.fullmatch(first) and any(e.lstrip(".") == "php" for e in rest):
            found = _inside(host, first, modules, programs)
        case "proxypassmatch" | "proxypass" if rest:
            found, rank = _socket(rest[0]) or _web(rest[0]), 3
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


def _web(text: str) -> tuple[Literal["web"], str] | None:
    """``http://127.0.0.1:8080/``: another web server."""
    match = re.match(r"https?://([^/:]+)(:\d+)?(?:/|$)", text)
    return ("web", match[1] + (match[2] or ":80")) if match else None


def _inside(
    host: Host, kind: str, modules: dict[str, str], programs: dict[str, str]
) -> tuple[Literal["module", "program"], str] | None:
    if re.fullmatch(r"application/x-httpd-php|php\d?-script", kind) is None:
        return ("program", programs[kind]) if kind in programs else None
    module = next((file for name, file in modules.items() if re.fullmatch(r"php\d?_module", name)), None)
    if module:
        return "module", windows_style(host, module)
    return ("program", programs[kind]) if kind in programs else None
