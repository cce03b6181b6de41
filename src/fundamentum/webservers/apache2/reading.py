"""Apache: which handler each virtual host gives to PHP files, and what it allows a request."""

import posixpath
from collections.abc import Iterator
from typing import Final

import msgspec

from fundamentum.hosts.base import Host
from fundamentum.hosts.windows_directory import folders
from fundamentum.model.origin import BUILT_IN
from fundamentum.model.surrounding_facts import Limit
from fundamentum.webservers.apache2 import WEB_SERVER, barriers, layers
from fundamentum.webservers.apache2.lines import Line, Reader, Section, windows_style
from fundamentum.webservers.apache2.virtual_hosts import PLACES, Handler, Hosts, VirtualHost, programs_of
from fundamentum.webservers.apache2.visits import Answers
from fundamentum.webservers.handoffs import Files, Found, Handoff, spot, unlinked

MAIN: Final = ("/etc/apache2/apache2.conf", "/etc/httpd/conf/httpd.conf", "/usr/local/apache2/conf/httpd.conf")
MAX_ALIASES: Final = 50
"""Of one host."""
FCGID: Final = {"FcgidMaxRequestLen": "131072", "FcgidIOTimeout": "40", "FcgidBusyTimeout": "300"}
"""mod_fcgid's own limits and their built-in values, from its documentation."""


def read(host: Host) -> Found:
    """The handoffs of all virtual hosts.  Source: Apache's documentation of sections, handlers and proxying."""
    handoffs: list[Handoff] = []
    files = Files(host, "Apache")
    for main, root in _mains(host):
        reader = Reader(files, root)
        lines = list(reader.lines(main, (), 0))
        read = list(files.read)
        idle = unlinked(host, WEB_SERVER.available, WEB_SERVER.enabled, read) if root in WEB_SERVER.available else []
        more = {path: list(reader.lines(path, (), 0)) for path in idle}
        handoffs += _handoffs(host, lines, more, reader)
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


def _handoffs(host: Host, lines: list[Line], idle: dict[str, list[Line]], reader: Reader) -> Iterator[Handoff]:
    """Those of all hosts; and those that files have which are not read, as they would be if they were."""
    hosts = Hosts(host, reader.modules, programs_of(lines))
    main, virtual = hosts.of(lines)
    for mine in virtual or [main]:
        yield from _handed(hosts, mine, main, reader)
    for more in idle.values():
        virtual_host, waiting = hosts.of(more)
        for mine in waiting:
            for handoff in _handed(hosts, mine, main.joined(virtual_host), reader):
                yield msgspec.structs.replace(handoff, idle=True)


def _handed(hosts: Hosts, mine: VirtualHost, main: VirtualHost, reader: Reader) -> Iterator[Handoff]:
    """The handoffs of one host: as its sections have it, or as files of its directories do."""
    hosts.host.budget.tick()
    found: list[tuple[Handoff, Handler | None]] = list(_of_host(mine, main))
    if not any(handoff.part is None for handoff, _ in found):
        nothing = Handoff(_names(mine), "apache2", mine.set_up or BUILT_IN, mine.root or main.root, None, "none", "")
        found.append((nothing, None))
    found += _aliased(hosts.host, mine, main)
    for handoff, handler in found:
        added = _layers(hosts.host, handoff, mine, main, reader)
        for below, line in added.handlers:
            if below:
                other = _handed_by(hosts, line, handoff, f"{(handoff.root or '').rstrip('/')}/{below}")
                if other.kind != handoff.kind or other.target != handoff.target:
                    yield _complete(hosts, other, None, _layers(hosts.host, other, mine, main, reader), mine, main)
            else:
                handoff = _handed_by(hosts, line, handoff, handoff.part)
                added = _layers(hosts.host, handoff, mine, main, reader)
        if handoff.kind != "none":
            yield _complete(hosts, handoff, handler, added, mine, main)
        elif not any(one.kind != "none" for one, _ in found) and mine is not main:
            yield handoff  # nothing of this site is handed to PHP


def _handed_by(hosts: Hosts, line: Line, handoff: Handoff, part: str | None) -> Handoff:
    """The handoff as a line of a directory's file changes it."""
    other = hosts.handler_of(line)
    kind, target = (other.kind, other.target) if other else ("unclear", "")
    return msgspec.structs.replace(handoff, kind=kind, target=target, origin=line.origin, part=part)


def _layers(host: Host, handoff: Handoff, mine: VirtualHost, main: VirtualHost, reader: Reader) -> layers.Found:
    lines = mine.lines if mine is not main else []
    return layers.layers_of(host, main.lines, lines, handoff.root, handoff.kind, reader)


def _complete(
    hosts: Hosts, handoff: Handoff, handler: Handler | None, added: layers.Found, mine: VirtualHost, main: VirtualHost
) -> Handoff:
    guards = [*main.guards, *(mine.guards if mine is not main else []), *added.guards]
    return msgspec.structs.replace(
        handoff,
        layers=tuple(added.layers),
        failing=_failing(added),
        limits=tuple(_limits(handoff, handler, mine, main)),
        secure=mine.secure,
        address=mine.address if ":" in mine.address else main.address or mine.address,
        barriers=(
            *barriers.unheard(mine.addresses, main.listens, mine.set_up),
            *barriers.barriers(hosts.host, guards, handoff.root),
        ),
        ini_path=main.ini_path or mine.ini_path,
        set_up=mine.set_up,
        handed=spot(hosts.host, handoff.origin, WEB_SERVER.harmless) if handoff.kind == "socket" else None,
        keeps_name=mine.keeps_name or main.keeps_name,
        modules=tuple(sorted(name.removesuffix("_module") for name in hosts.modules)),
        visit=None if handoff.aliased else Answers(guards, handoff.root, hosts.modules).visit,
        spot=mine.spot,
        user=main.user,
    )


def _names(mine: VirtualHost) -> tuple[str, ...]:
    return tuple(dict.fromkeys(mine.names)) or ("default",)


def _failing(added: layers.Found) -> str:
    """Why every request of the site fails, as a sentence; empty if it does not."""
    return f"{added.failing.origin}: {added.failing.why}" if added.failing else ""


def _limits(found: Handoff, handler: Handler | None, mine: VirtualHost, main: VirtualHost) -> Iterator[Limit]:
    """What is allowed a request to one site, each limit as its most special line has it.

    Source: Apache's documentation: directories that hold the site outrank the host, locations outrank both, and the
    host outranks the main server.
    """
    hosts = [main] if mine is main else [main, mine]
    last: dict[str, tuple[tuple[int, int, int], Limit]] = {}
    for nearer, host in enumerate(hosts):
        for allowance in host.allowances:
            if _holds_all(allowance.place, found.root) or (handler and allowance.place == handler.place):
                kind = 0 if allowance.place is None else 2 if allowance.place.kind.startswith("location") else 1
                rank = (kind, len(allowance.place.words) if allowance.place else 0, nearer)
                if allowance.limit.name not in last or rank >= last[allowance.limit.name][0]:
                    last[allowance.limit.name] = (rank, allowance.limit)
    set_here = {name: limit for name, (_, limit) in last.items()}
    yield set_here.get("LimitRequestBody", Limit("LimitRequestBody", ""))
    if found.kind in ("socket", "web"):
        whole = set_here.get("Timeout", Limit("Timeout", "60"))
        general = set_here.get("ProxyTimeout", Limit("ProxyTimeout", whole.value, whole.origin))
        special = (limit for host in hosts for words, limit in host.waits.items() if found.target in words)
        yield (handler and handler.timeout) or next(special, None) or general
    elif found.kind == "program" and handler and handler.fcgid:
        for name, value in FCGID.items():
            yield set_here.get(name, Limit(name, value))


def _aliased(host: Host, mine: VirtualHost, main: VirtualHost) -> Iterator[tuple[Handoff, Handler]]:
    """What serves the directories with a page of PHP to which an ``Alias`` leads, as those of packages are set up."""
    lines = [*main.guards, *(mine.guards if mine is not main else [])]
    leading = [line for line in lines if line.name == "alias" and len(line.words) > 1 and not line.within(*PLACES)]
    known = {(mine.root or main.root or "").rstrip("/")}
    for line in leading[:MAX_ALIASES]:
        folder = windows_style(host, line.words[1]).rstrip("/")
        if folder in known or host.stat(f"{folder}/index.php") is None:
            continue
        known.add(folder)
        for handoff, handler in _of_host(mine, main, folder):
            if handoff.part is None:
                yield msgspec.structs.replace(handoff, part=line.words[0], aliased=True), handler


def _of_host(mine: VirtualHost, main: VirtualHost, folder: str = "") -> Iterator[tuple[Handoff, Handler]]:
    """What serves a whole host, then the parts of it that are served by something else.

    ``folder``: to which an alias leads, rather than its document root.
    """
    root = folder or mine.root or main.root
    handlers = list(enumerate([*main.handlers, *(mine.handlers if mine is not main else [])]))
    whole = [one for one in handlers if _holds_all(one[1].place, root)]
    winner = max(whole, key=lambda one: (one[1].rank, one[0]), default=None)
    parts: dict[str, tuple[int, Handler]] = {}
    for at, handler in handlers:
        outranks = winner is None or (handler.rank, at) > (winner[1].rank, winner[0])
        if handler.place and (at, handler) not in whole and _is_part(handler.place, root) and outranks:
            parts[handler.place.words] = (at, handler)
    names = _names(mine)
    for part, (_, handler) in [(None, winner)] if winner else []:
        yield Handoff(names, "apache2", handler.origin, root, part, handler.kind, handler.target), handler
    for words, (_, handler) in parts.items():
        yield Handoff(names, "apache2", handler.origin, root, words, handler.kind, handler.target), handler


def _holds_all(place: Section | None, root: str | None) -> bool:
    if place is None or place.words in ("/", "~ /"):
        return True
    folder = place.words.rstrip("/")
    return place.kind == "directory" and root is not None and f"{root.rstrip('/')}/".startswith(f"{folder}/")


def _is_part(place: Section, root: str | None) -> bool:
    if place.kind.startswith("location"):
        return True
    return root is not None and place.words.startswith(root.rstrip("/") + "/")
