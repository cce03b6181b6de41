"""Apache: which handler each virtual host gives to PHP files, and what it allows a request."""

import posixpath
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import Final

import msgspec

from fundamentum.hosts.base import Host
from fundamentum.hosts.windows_directory import folders
from fundamentum.model.layers import Layer
from fundamentum.model.origin import BUILT_IN
from fundamentum.model.remark import Remark
from fundamentum.model.surrounding_facts import Barrier, UnknownLine
from fundamentum.webservers.apache2 import WEB_SERVER, barriers, layers, programs
from fundamentum.webservers.apache2.access_files import unknown_line
from fundamentum.webservers.apache2.directives import Modules, refused
from fundamentum.webservers.apache2.handlers import PLACES, Handler, winner
from fundamentum.webservers.apache2.limits import limits_of
from fundamentum.webservers.apache2.lines import Line, Reader, windows_style
from fundamentum.webservers.apache2.merging import SCRIPT
from fundamentum.webservers.apache2.options import kept_from_links, kept_from_rewriting
from fundamentum.webservers.apache2.parts import Part, document_root, handed_to, led_elsewhere, parts_of
from fundamentum.webservers.apache2.redirects import sent_away
from fundamentum.webservers.apache2.told_script import of_other_directory
from fundamentum.webservers.apache2.virtual_hosts import Hosts, VirtualHost
from fundamentum.webservers.apache2.visits import Answers
from fundamentum.webservers.handoffs import Files, Handoff, HandoffsRead, is_file, spot, unlinked
from fundamentum.webservers.visit_questions import Unclear

MAIN: Final = ("/etc/apache2/apache2.conf", "/etc/httpd/conf/httpd.conf", "/usr/local/apache2/conf/httpd.conf")
MAX_REFUSED: Final = 20
"""Modules that are lacking, of one configuration."""
MAX_ALIASES: Final = 50
"""Of one host."""


def read(host: Host) -> HandoffsRead:
    """The handoffs of all virtual hosts.  Source: Apache's documentation of sections, handlers and proxying."""
    handoffs: list[Handoff] = []
    files = Files(host, "Apache")
    for main, root in _mains(host):
        reader = Reader(files, root)
        lines = list(reader.lines(main, (), 0))
        read = list(files.read)
        idle = unlinked(host, WEB_SERVER.available, WEB_SERVER.enabled, read) if root in WEB_SERVER.available else []
        idle_lines = {path: list(reader.lines(path, (), 0)) for path in idle}
        handoffs += _handoffs(host, lines, idle_lines, reader)
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
    hosts = Hosts(host, reader.modules, programs.types_of(lines))
    main, virtual = hosts.of(lines)
    wrong = _refused(host, lines, reader)
    for mine in list(_asked(virtual, reader)) or [main]:
        for handoff in _handed(hosts, mine, main, reader):
            yield msgspec.structs.replace(handoff, refused=wrong)
    for lines_of in idle.values():
        hosts = Hosts(host, reader.modules, programs.types_of([*lines, *lines_of]))
        virtual_host, waiting = hosts.of(lines_of)
        for mine in waiting:
            for handoff in _handed(hosts, mine, main.joined(virtual_host), reader):
                yield msgspec.structs.replace(handoff, idle=True, refused=(*wrong, *_refused(host, lines_of, reader)))


def _refused(host: Host, lines: Sequence[Line], reader: Reader) -> tuple[UnknownLine, ...]:
    """The lines with which Apache does not start: of those that one module would know, the first."""
    modules = Modules(reader.modules)
    by_text: dict[str, UnknownLine] = {}
    for line in lines:
        wrong = refused(line, modules) if len(by_text) < MAX_REFUSED else None
        if wrong and wrong.module not in by_text:
            by_text[wrong.module] = unknown_line(host, line, wrong)
    return tuple(by_text.values())


def _asked(virtual: Sequence[VirtualHost], reader: Reader) -> Iterator[VirtualHost]:
    """The hosts that requests come to: of two with one name at one address the first answers."""
    first: dict[tuple[str, str], VirtualHost] = {}
    for mine in virtual:
        taken = [first.setdefault((at, name), mine) for at in mine.addresses.split() for name in mine.names]
        if mine in taken or not taken:
            yield mine
        else:
            why = f"{mine.set_up}: {mine.names[0]} is set up at {taken[0].set_up} already, which answers"
            reader.files.remarks.append(Remark("web sites", why))


def _handed(hosts: Hosts, mine: VirtualHost, main: VirtualHost, reader: Reader) -> Iterator[Handoff]:
    """The handoffs of one host: as its sections have it, and the files of its directories."""
    hosts.host.budget.tick()
    guards = [*main.guards, *(mine.guards if mine is not main else [])]
    root, led = document_root(mine.root or main.root, guards, hosts.host)
    own = Handoff(_names(mine), "apache2", mine.set_up or BUILT_IN, root, None, "none", "")
    access = _layers(hosts.host, own, mine, main, reader)
    every = [*guards, *access.guards]
    handlers = [
        programs.named(hosts.host, handler, every, root or "/", hosts.modules)
        for handler in _named(hosts, mine, main, access, every)
    ]
    answers = Answers(every, root, hosts.modules)
    first = answers.first_page(lambda path: is_file(hosts.host, path))
    parts = [*parts_of(own, handlers, first), *_aliased(hosts.host, own, handlers, guards)]
    of_php = [part for part in parts if part.handler.kind != "none"]
    several = len({id(part.handler) for part in of_php}) > 1
    counting = [
        handler for handler in handlers if not (answers.rewritten and handler.line.name.startswith("proxypass"))
    ]
    unhanded = list(_handed_out(hosts.host, counting, root, first))
    for part in of_php:
        added = _layers(hosts.host, part.handoff, mine, main, reader)
        if led and part.handoff.first_page != "elsewhere":
            added.layers.append(led_elsewhere(led, part.handler.kind))
        script = first or f"/{SCRIPT}"
        passed = of_other_directory(hosts.host, part.handler, part.handoff.root, script)
        other = [] if part.handoff.aliased else [*passed, *unhanded]  # of an alias, the first page is another one
        added.layers += (layer for layer in other if isinstance(layer, Layer))
        handoff = _complete(hosts, part, added, mine, main)
        told = (barrier for barrier in other if isinstance(barrier, Barrier))
        handoff = msgspec.structs.replace(handoff, barriers=(*handoff.barriers, *told))
        yield handoff if several else msgspec.structs.replace(handoff, first_page="")
    if mine is not main and not of_php:
        yield own  # nothing of this site is handed to PHP


def _named(
    hosts: Hosts, mine: VirtualHost, main: VirtualHost, access: layers.SiteLayers, guards: Sequence[Line]
) -> Iterator[Handler]:
    """What hands PHP files on: lines of the main server, of the host and of its directories, and rewriting."""
    yield from main.handlers
    yield from mine.handlers if mine is not main else ()
    yield from hosts.handlers_of(access.handlers)
    yield from hosts.rewriting(guards, mine is main)


def _handed_out(host: Host, handlers: Sequence[Handler], root: str | None, first: str | None) -> Iterator[Barrier]:
    """Whether the script that answers for the first page is handed out, though others are handed to PHP."""
    folder = (root or "").rstrip("/")
    if first is None or not folder.startswith("/") or not is_file(host, f"{folder}{first}"):
        return
    page = winner(handlers, first, folder + posixpath.dirname(first))
    if page is None or page.kind == "none":
        why = f"Apache hands out the source of {first}, and not what PHP makes of it"
        yield Barrier(why, "let it hand that to PHP as well", page.line.origin if page else None)


def _layers(host: Host, handoff: Handoff, mine: VirtualHost, main: VirtualHost, reader: Reader) -> layers.SiteLayers:
    lines = mine.lines if mine is not main else []
    return layers.layers_of(host, main.lines, lines, handoff.root, handoff.kind, reader)


def _complete(hosts: Hosts, part: Part, added: layers.SiteLayers, mine: VirtualHost, main: VirtualHost) -> Handoff:
    handoff, own = part.handoff, mine if mine is not main else VirtualHost()
    allowances = [*main.allowances, *own.allowances, *added.allowances]
    guards = [*main.guards, *(mine.guards if mine is not main else []), *added.guards]
    answers = Answers(guards, handoff.root, hosts.modules)
    stopped = [*barriers.barriers(hosts.host, guards, handoff.root), *sent_away(own.guards, hosts.names)]
    there = not handoff.aliased and bool(handoff.root) and is_file(hosts.host, f"{handoff.root}/{SCRIPT}")
    if there and not any(barrier.stops for barrier in stopped):
        stopped += answers.barred(lambda path: is_file(hosts.host, path))
    stopped += _by_options(hosts, guards, handoff)
    stopped += programs.barriers(part.handler, guards, handoff.root, recorded=not hosts.host.whole)
    return msgspec.structs.replace(
        handoff,
        layers=tuple(added.layers),
        failing=_failing(added),
        unknown_lines=tuple(added.unknown),
        limits=tuple(limits_of(hosts.host, part, allowances, [*main.workers, *own.workers])),
        secure=mine.secure,
        address=mine.address if ":" in mine.address else main.address or mine.address,
        barriers=(
            *barriers.unheard(mine.addresses, main.listens, mine.set_up),
            *stopped,
            *_failing_below(added),
        ),
        ini_path=main.ini_path or mine.ini_path,
        set_up=mine.set_up,
        handed=spot(hosts.host, handoff.origin, WEB_SERVER.harmless) if handoff.kind == "socket" else None,
        keeps_name=mine.keeps_name or main.keeps_name,
        modules=tuple(sorted(name.removesuffix("_module") for name in hosts.modules)),
        visit=None if handoff.aliased else answers.visit,
        spot=mine.spot,
        user=main.user,
        group=main.group,
    )


def _by_options(hosts: Hosts, guards: Sequence[Line], handoff: Handoff) -> Iterator[Barrier]:
    """What is refused as an option is not on; a recording does not hold enough to tell."""
    if hosts.host.windows or not hosts.host.whole or not handoff.root or not handoff.root.startswith("/"):
        return
    with suppress(Unclear):
        yield from kept_from_links(hosts.host, guards, handoff.root)
    if "rewrite_module" in hosts.modules:
        with suppress(Unclear):
            yield from kept_from_rewriting(guards, handoff.root)


def _names(mine: VirtualHost) -> tuple[str, ...]:
    return tuple(dict.fromkeys(mine.names)) or ("default",)


def _failing(added: layers.SiteLayers) -> str:
    """Why every request of the site fails, as a sentence; empty if it does not."""
    return f"{added.failing.origin}: {added.failing.why}" if added.failing else ""


def _failing_below(added: layers.SiteLayers) -> Iterator[Barrier]:
    """What fails in one of its directories alone."""
    if added.failing_below:
        below, failing = added.failing_below
        why = f"requests below /{below}/ fail: {failing.origin}: {failing.why}"
        yield Barrier(why, "take that line out, or let Apache take it", failing.origin, stops=False)


def _aliased(host: Host, own: Handoff, handlers: Sequence[Handler], guards: Sequence[Line]) -> Iterator[Part]:
    """What serves the directories with a page of PHP to which an ``Alias`` leads, as those of packages are set up."""
    leading = [line for line in guards if line.name == "alias" and len(line.words) > 1 and not line.within(*PLACES)]
    known = {(own.root or "").rstrip("/")}
    for line in leading[:MAX_ALIASES]:
        address, folder = line.words[0], windows_style(host, line.words[1]).rstrip("/")
        if folder in known or host.stat(f"{folder}/{SCRIPT}") is None:
            continue
        known.add(folder)
        script = f"{address.rstrip('/')}/{SCRIPT}"
        if handler := winner(handlers, script, folder):
            aliased = handed_to(handler, own, root=folder, part=address, aliased=True, first_page="elsewhere")
            yield Part(aliased, handler, ((script, folder),))
