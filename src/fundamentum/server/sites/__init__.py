"""Which PHP serves which web site: one file for each web server's configuration, and what they have in common."""

import posixpath
import re
from collections.abc import Callable, Iterable, Sequence
from typing import Final, Literal

import msgspec
from msgspec.structs import replace

from fundamentum.server.around import Limit, Spot
from fundamentum.server.fact import PLAIN
from fundamentum.server.hosts import Host, HostError, matching, text_of
from fundamentum.server.model import Remark, Runtime, Site, System

MAX_FILES: Final = 2000
PATH: Final = r"(/[A-Za-z0-9_+@ (-][A-Za-z0-9_.+@ ()-]*)+"
_LOOPBACK: Final = ("127.0.0.1", "localhost", "[::1]", "::1")


class Handoff(msgspec.Struct, frozen=True):
    """One place in a web server's configuration that hands requests to PHP."""

    names: tuple[str, ...]
    server: Literal["apache2", "nginx", "iis"]
    origin: str
    root: str | None
    part: str | None
    kind: Literal["socket", "module", "program", "unclear"]
    target: str
    """The socket or address, the module's file, or the program."""
    limits: tuple[Limit, ...] = ()
    secure: bool = False
    spot: Spot | None = None
    user: str | None = None


Found = tuple[list[Handoff], list[str], list[Remark]]
"""Handoffs, the files they were read from, and what could not be read."""
Reader = Callable[[Host, System], Found]


def probe(
    host: Host, system: System, runtimes: Sequence[Runtime]
) -> tuple[tuple[Site, ...], dict[str, list[str]], list[Remark]]:
    """Every site that is handed to PHP, with the runtime that serves it; and each web server's configuration files."""
    from fundamentum.server.sites import apache, iis, nginx  # noqa: PLC0415 — they use what stands here

    readers: dict[str, Reader] = {"apache2": apache.read, "nginx": nginx.read, "iis": iis.read}
    sites: dict[tuple[str, str, str, str | None], Site] = {}
    files: dict[str, list[str]] = {}
    remarks: list[Remark] = []
    for server, reader in readers.items():
        handoffs, files[server], said = reader(host, system)
        remarks += said
        for one in handoffs:
            runtime = serving(host, one, runtimes)
            if runtime is None:
                why = f"{one.origin}: hands {one.names[0]} to {one.target or 'PHP'}, which is no runtime seen here"
                remarks.append(Remark("web sites", why))
            site = Site(
                one.names[0],
                one.server,
                one.origin,
                one.names[1:],
                one.root,
                one.part,
                one.target,
                runtime.label if runtime else None,
                one.limits,
                one.secure,
                one.spot,
                one.user if one.user and re.fullmatch(PLAIN, one.user) else None,
            )
            key = (site.server, site.name, site.handler, site.part)
            same = sites.setdefault(key, site)  # often there twice, with HTTPS and without
            if site.secure and not same.secure:
                sites[key] = replace(same, secure=True)
    return tuple(sites.values()), files, list(dict.fromkeys(remarks))


def serving(host: Host, one: Handoff, runtimes: Iterable[Runtime]) -> Runtime | None:
    """The runtime at the other end of a handoff."""
    for runtime in runtimes:
        match one.kind:
            case "socket" if runtime.listen and _same_socket(host, one.target, runtime.listen):
                return runtime
            case "module" if runtime.sapi == "apache2" and _same_file(host, one.target, runtime.program):
                return runtime
            case "program" if runtime.sapi == "cgi" and _same_file(host, one.target, runtime.program):
                return runtime
    return None


def _same_file(host: Host, one: str, two: str | None) -> bool:
    return two is not None and (one == two or (host.resolve(one) or one) == (host.resolve(two) or two))


def _same_socket(host: Host, target: str, listen: str) -> bool:
    if target.startswith("unix:") or listen.startswith("/"):
        one, two = (posixpath.normpath(text.removeprefix("unix:")) for text in (target, listen))
        return one == two or _folder_followed(host, one) == _folder_followed(host, two)
    (host_one, port_one), (host_two, port_two) = _address(target), _address(listen)
    same_host = host_one == host_two or {host_one, host_two} <= {*_LOOPBACK, "", "*", "0.0.0.0", "[::]"}
    return port_one == port_two and same_host


def _folder_followed(host: Host, path: str) -> str:
    """``/var/run/php/a.sock`` and ``/run/php/a.sock`` are one socket, whether it exists now or not."""
    folder, name = posixpath.split(path)
    missing: list[str] = []
    while folder not in ("/", "") and not host.resolve(folder):
        folder, last = posixpath.split(folder)
        missing.insert(0, last)
    return posixpath.join(host.resolve(folder) or folder or "/", *missing, name)


def _address(text: str) -> tuple[str, str]:
    name, _, port = text.rpartition(":")
    return name.lower(), port


def spot(host: Host, origin: str) -> Spot | None:
    """A line of a configuration file, as it stands; None where its file has a name that no command should hold."""
    path, _, number = origin.rpartition(":")
    path = host.resolve(path) or path  # what is changed is the file, not a link to it
    if not number.isdigit() or not re.fullmatch(PATH, path):
        return None
    try:
        lines = (text_of(host, path) or "").split("\n")
    except HostError:
        return None
    at = int(number)
    text = lines[at - 1] if 0 < at <= len(lines) else ""
    recorded = not host.whole and text.rstrip().endswith("#")  # there was a comment, which recordings do not hold
    return Spot(path, at, "" if recorded or not text.isprintable() else text)


class Files:
    """Reads a web server's files, each with its includes, within bounds."""

    def __init__(self, host: Host, about: str) -> None:
        self.host, self.about = host, about
        self.read: list[str] = []
        self.remarks: list[Remark] = []

    def text(self, path: str) -> str | None:
        """The file's text, or None with a remark."""
        if len(self.read) >= MAX_FILES:
            return None
        try:
            found = text_of(self.host, path)
        except HostError as error:
            self.remarks.append(Remark("web sites", f"{error}: sites set up there are unknown"))
            return None
        if found is not None:
            self.read.append(path)
        return found

    def included(self, base: str, pattern: str) -> list[str]:
        """The files that an include line means."""
        whole = posixpath.normpath(posixpath.join(base, pattern))
        return matching(self.host, whole) if whole.startswith("/") and not re.search(r"[${}]", whole) else []
