"""Reads IIS' configuration: which program each address of its sites hands PHP files to, and what is in the way."""

import posixpath
from collections.abc import Iterator, Mapping
from typing import Any, Final

import msgspec

from fundamentum.hosts.base import Host, folders_below, matching
from fundamentum.hosts.windows_directory import CORE, php_folders
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.remark import Remark
from fundamentum.model.surrounding_facts import Barrier, Limit
from fundamentum.model.windows_words import shown_path, windows_line
from fundamentum.webservers.handoffs import Files, Handoff, HandoffsRead
from fundamentum.webservers.iis import MAIN, commands, fastcgi, handlers
from fundamentum.webservers.iis.barriers import Way, barriers
from fundamentum.webservers.iis.levels import Element, Level, Levels, option, tree
from fundamentum.webservers.iis.sites import Binding, Part, Pool, bindings, chain, local_names, parts_of, pool_of

HANDLER: Final = "PHP-FastCGI"
"""The name of a handler that a plan adds."""


def read(host: Host) -> HandoffsRead:
    """The handoffs of all sites."""
    if not host.windows:
        return [], [], []
    files = Files(host, "IIS")
    handoffs: list[Handoff] = []
    for path in matching(host, MAIN):
        main = tree(host, path, files)
        if main is not None:
            every = main.findall("system.applicationHost/sites/site")
            names = local_names(host)
            files.remarks += _hosts_file(names)
            bound = {binding.name for site in every for binding in bindings(site)}
            free = [name for name in names if name not in bound]
            for site in every:
                handoffs += _Site(host, main, path, files, site).handoffs(free)
    return handoffs, files.read, files.remarks


def _hosts_file(names: Mapping[str, Origin]) -> Iterator[Remark]:
    for name, origin in names.items():
        yield Remark("web sites", f"{origin}: {name} leads to this machine from here only, not for others")


class _Site:
    """One site, with its applications and directories."""

    def __init__(self, host: Host, main: Any, path: str, files: Files, element: Any) -> None:
        self.host, self.main, self.path, self.element = host, main, path, element
        self.name = element.get("name") or "default"
        self.levels = Levels(host, main, path, files)
        self.parts = parts_of(host, main, element)
        self.bindings = list(bindings(element))
        self.starts = (element.get("serverAutoStart") or "").lower() != "false"

    def handoffs(self, free: list[str]) -> Iterator[Handoff]:
        """One for the site, and one for each part of it in which that is otherwise.

        ``free``: names of this machine that no site is bound to.
        """
        before: dict[str, tuple[str, str] | None] = {}
        for part in [*self.parts, *self._directories()]:
            handoff = self._handoff(part, free)
            handed = (handoff.target, part.pool) if handoff else None
            above = next((before[at] for at in _above(part.address) if at in before), None)
            same = part.address != "/" and handed == above and part not in self.parts
            before[part.address] = handed
            if handoff and not same:
                yield handoff

    def _directories(self) -> Iterator[Part]:
        """Directories with handlers of their own, in a file there or in one above."""
        known = {part.address for part in self.parts}
        for part in self.parts:
            for below, names in folders_below(self.host, part.folder).folders:
                address = posixpath.join(part.address, below)
                web = "web.config" in {name.lower() for name in names}
                if web and address not in known:
                    yield Part(address, posixpath.join(part.folder, below), part.pool)
        for element in self.main.iterfind("location"):
            site, _, below = (element.get("path") or "").strip("/").partition("/")
            if site.lower() == self.name.lower() and below and f"/{below}" not in known and self.parts:
                folders = chain(self.parts, f"/{below}")
                yield Part(f"/{below}", folders[-1][1] if folders else "", self.parts[0].pool)

    def _handoff(self, part: Part, free: list[str]) -> Handoff | None:
        levels = self.levels.of(self.name, chain(self.parts, part.address))
        pool = pool_of(self.main, self.path, part.pool)
        handler = handlers.of_php(levels, pool.small if pool else None) or handlers.of_php(levels, None)
        if handler:
            return self._handed(part, levels, pool, handler, free, ())
        inherited = handlers.of_php(self.levels.server(), None)
        gone = handlers.taken_off(levels, inherited.get("name")) if inherited else None
        if inherited and gone:
            why = f"the handler {inherited.get('name')}, which would run PHP, is taken off for {self._path(part)}"
            barrier = Barrier(why, f"take the line at {gone} out, or add a handler for *.php behind it", gone)
            return self._handed(part, levels, pool, inherited, free, (barrier,))
        if part.address == "/" or part in self.parts:
            return self._unregistered(part, levels, pool, free)
        return None

    def _path(self, part: Part) -> str:
        return f"{self.name}/{part.address.strip('/')}".rstrip("/")

    def _handed(
        self,
        part: Part,
        levels: list[Level],
        pool: Pool | None,
        handler: Element,
        free: list[str],
        first: tuple[Barrier, ...],
    ) -> Handoff:
        handed = fastcgi.processor(self.host, handler.get("scriptProcessor"))
        way = Way(self._path(part), levels, self.main, self.path, pool, handler, handed, self.starts)
        how = fastcgi.started(self.host, levels, handed)
        meant = fastcgi.application(self.host, levels, handed)
        locked = next((level for level in levels if handlers.sets_any(level) and level.file != self.path), None)
        failing = ""
        if locked and self.levels.locked("handlers"):
            failing = f"{locked.file} has handlers, which the server allows no site to set (error 500.19)"
        plain = self.bindings[0] if self.bindings else Binding("", "", False)
        return Handoff(
            self._names(free),
            "iis",
            handler.origin,
            part.folder or None,
            None if part.address == "/" else part.address,
            "program",
            handed.program,
            limits=(_body(levels), *fastcgi.times(meant)),
            secure=any(binding.secure for binding in self.bindings),
            address="" if plain.secure else plain.address,
            ini_path=how.ini_path,
            variables=how.variables,
            layers=tuple(how.layers),
            barriers=(*first, *barriers(self.host, way)),
            failing=failing,
            identity=pool.identity if pool else "",
            visitor=_visitor(levels),
            pool=pool.name if pool else "",
        )

    def _unregistered(self, part: Part, levels: list[Level], pool: Pool | None, free: list[str]) -> Handoff | None:
        """A site that hands nothing to PHP yet: what would, where there is one PHP for FastCGI only."""
        programs = _programs(self.host)
        if len(programs) != 1:
            return None
        program = programs[0]
        words, back = (commands.add_handler(self._path(part), HANDLER, program, back=back) for back in (False, True))
        why = f"IIS hands nothing of {self._path(part)} to PHP: no handler for *.php"
        barrier = Barrier(why, windows_line(words), Origin(self.path), commands=(words,), back=(back,))
        handler = Element(Origin(self.path), "add", {"name": HANDLER, "scriptProcessor": shown_path(program)})
        made = self._handed(part, levels, pool, handler, free, ())
        first = [stop for stop in made.barriers if stop.commands and stop.commands[0] == commands.feature()]
        rest = [stop for stop in made.barriers if stop not in first]
        return msgspec.structs.replace(made, barriers=(*first, barrier, *rest), idle=True)

    def _names(self, free: list[str]) -> tuple[str, ...]:
        own = [binding.name for binding in self.bindings if binding.name]
        if any(not binding.name and binding.address.endswith(":80") for binding in self.bindings):
            own += free
        return self.name, *dict.fromkeys(name for name in own if name != self.name)


def _above(address: str) -> Iterator[str]:
    while address != "/":
        address = posixpath.dirname(address)
        yield address


def _programs(host: Host) -> list[str]:
    """The programs for FastCGI of the PHPs here that are meant for it: not thread-safe."""
    programs = []
    for folder, names in php_folders(host):
        program = next((name for name in names if name.lower() == "php-cgi.exe"), None)
        core = next((name for name in names if CORE.fullmatch(name)), "")
        if program and not core.lower().endswith("ts.dll"):
            programs.append(posixpath.join(folder, program))
    return programs


def _body(levels: list[Level]) -> Limit:
    """The largest request.  Source: Microsoft's reference (requestLimits): 30,000,000 bytes unless set."""
    limit = option(levels, "security/requestFiltering/requestLimits", "maxAllowedContentLength")
    return Limit("maxAllowedContentLength", *(limit or ("30000000", BUILT_IN)))


def _visitor(levels: list[Level]) -> str:
    """As whom anonymous visitors are: with no name, that is the pool's identity.  Source: anonymousAuthentication."""
    user = option(levels, "security/authentication/anonymousAuthentication", "userName")
    return user[0] if user else "IUSR"
