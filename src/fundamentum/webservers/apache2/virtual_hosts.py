"""Apache's virtual hosts: what the lines of each say about handing on, limits, PHP's configuration and who may ask."""

import re
from collections.abc import Iterable, Sequence, Sized
from typing import Final

import msgspec

from fundamentum.hosts.base import Host, HostError
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Spot
from fundamentum.webservers.apache2 import WEB_SERVER, barriers, inspection, layers, programs, visits
from fundamentum.webservers.apache2.handlers import ADDED, SET, Handler, handler_of
from fundamentum.webservers.apache2.limits import ALLOWANCES
from fundamentum.webservers.apache2.lines import Line, Section, windows_style
from fundamentum.webservers.apache2.merging import never_counts
from fundamentum.webservers.apache2.workers import Worker, passed_to, take
from fundamentum.webservers.handoffs import spot

MAX_OF_ONE_HOST: Final = 500
"""Lines of one kind in one virtual host, or in the main server."""


class VirtualHost(msgspec.Struct):
    """A virtual host, or the main server."""

    names: list[str] = msgspec.field(default_factory=list)
    set_up: Origin | None = None
    root: str | None = None
    handlers: list[Handler] = msgspec.field(default_factory=list)
    allowances: list[Line] = msgspec.field(default_factory=list)
    """Lines that limit requests."""
    secure: bool = False
    address: str = ""
    """Where it waits: the first address of its section, or the main server's first ``Listen``."""
    spot: Spot | None = None
    user: str | None = None
    group: str | None = None
    lines: list[Line] = msgspec.field(default_factory=list)
    """What is said about PHP's configuration."""
    guards: list[Line] = msgspec.field(default_factory=list)
    """What is said about who may ask, which file answers for a directory, and which program is run."""
    addresses: str = ""
    ini_path: str = ""
    """Where PHP inside Apache is told to look for its php.ini."""
    keeps_name: bool = False
    """Whether other web servers are asked by the name that the visitor used."""
    listens: list[str] = msgspec.field(default_factory=list)
    """Where the main server listens."""
    workers: list[Worker] = msgspec.field(default_factory=list)
    """What requests are passed to."""

    def joined(self, other: "VirtualHost") -> "VirtualHost":
        """The main server with the lines of another file that stand outside of hosts there too."""
        return msgspec.structs.replace(
            self,
            handlers=[*self.handlers, *other.handlers],
            allowances=[*self.allowances, *other.allowances],
            lines=[*self.lines, *other.lines],
            guards=[*self.guards, *other.guards],
            listens=[*self.listens, *other.listens],
            workers=[*self.workers, *other.workers],
        )


class Hosts:
    """Takes lines into hosts: the main server's, and those of each virtual host."""

    def __init__(self, host: Host, modules: dict[str, str], types: frozenset[str]) -> None:
        """``types`` are those of files for which a program is named."""
        self.host, self.modules, self.types = host, modules, types
        self.names: frozenset[str] = frozenset()
        """Those by which the hosts that were taken last are asked for."""

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
        self.names = frozenset(name.lower() for mine in virtual.values() for name in mine.names)
        return main, list(virtual.values())

    def handler_of(self, line: Line) -> Handler | None:
        """What a line hands PHP files to; None if that is not known."""
        return handler_of(self.host, line, self.modules, self.types)

    def handlers_of(self, lines: Iterable[Line]) -> list[Handler]:
        """What the lines of a directory's file hand PHP files to."""
        handlers = []
        for line in lines:
            handler = self.handler_of(line)
            if handler is None and not never_counts(line):
                handler = Handler(line, SET if line.name == "sethandler" else ADDED, "unclear", "")
            handlers += [handler] if handler else []
        return handlers

    def rewriting(self, lines: Sequence[Line], of_main: bool) -> list[Handler]:
        """What rewriting hands PHP files to, among these lines; a host has none of the main server's rules."""
        if "rewrite_module" not in self.modules or not any(
            line.name == "rewriteengine" and line.words[:1] and line.words[0].lower() == "on" for line in lines
        ):
            return []
        handlers = []
        for before, line in zip((None, *lines), lines, strict=False):
            inherited = not of_main and not line.within("virtualhost", "directory")
            handler = None if line.name != "rewriterule" or inherited else self.handler_of(line)
            if handler and before and before.name == "rewritecond":
                if handler.kind == "web":
                    continue  # some requests are another server's
                handler = msgspec.structs.replace(handler, kind="unclear", target="")
            handlers += [handler] if handler else []
        return handlers

    def _take(self, line: Line, section: Section | None, mine: VirtualHost) -> None:
        if line.name in barriers.NAMES | visits.NAMES | programs.NAMES:
            _bounded(mine.guards, line)
            mine.guards.append(line)
        if line.name in ("proxypass", "proxypassmatch") and not never_counts(line):
            take(mine.workers, line)
        match line.name:
            case "listen" if line.words and not section:
                mine.listens.append(line.words[0])
                mine.address = mine.address or (line.words[0] if ":" in line.words[0] else f"*:{line.words[0]}")
            case "user" if line.words and not section:
                mine.user = line.words[0]
            case "group" if line.words and not section:
                mine.group = line.words[0].removeprefix("#")
            case "phpinidir" if line.words and not mine.ini_path:  # only the first one counts
                mine.ini_path = windows_style(self.host, line.words[0])
            case "proxypreservehost" if line.words:
                mine.keeps_name = line.words[0].lower() == "on"
            case "sslengine" if line.words:
                mine.secure = line.words[0].lower() == "on"
            case "proxyset":
                take(mine.workers, line)
            case name if name in ALLOWANCES and line.words and inspection.matters(line):
                _bounded(mine.allowances, line)
                mine.allowances.append(line)
            case "servername" if line.words:
                mine.names.insert(0, re.sub(r"^\w+://|:\d+$", "", line.words[0]))
            case "serveralias":
                mine.names += line.words
            case "documentroot" | "virtualdocumentroot" | "virtualdocumentrootip" if line.words:
                mine.root = windows_style(self.host, line.words[0]) if line.words[0] != "none" else mine.root
            case _ if layers.matters(line):
                _bounded(mine.lines, line)
                mine.lines.append(line)
            case _ if line.name != "rewriterule" and (handler := self.handler_of(line)):
                _bounded(mine.handlers, line)
                to = passed_to(line, mine.workers)
                mine.handlers.append(msgspec.structs.replace(handler, target=to) if to else handler)


def _bounded(lines: Sized, line: Line) -> None:
    if len(lines) >= MAX_OF_ONE_HOST:
        raise HostError(f"{line.origin}: more than {MAX_OF_ONE_HOST} such lines for one host: sites are unknown")
