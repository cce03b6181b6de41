"""Which PHP serves which web site: one file for each web server's configuration, and what they have in common."""

import posixpath
import re
from collections.abc import Callable, Iterable, Sequence
from typing import Final, Literal

import msgspec
from msgspec.structs import replace

from fundamentum.hosts.base import Host, HostError, matching, text_of
from fundamentum.model.php import Runtime
from fundamentum.model.remark import Remark
from fundamentum.model.surroundings import Limit, Spot
from fundamentum.model.survey import Site
from fundamentum.model.system import System
from fundamentum.model.text import is_path, is_plain, safe_line
from fundamentum.untrusted.budget import Spent
from fundamentum.untrusted.numbers import whole
from fundamentum.untrusted.secrets import names_a_secret, without_credentials

MAX_FILES: Final = 20_000
MAX_SITE_TEXT: Final = 32 * 1024 * 1024
"""Bytes of one web server's configuration, included files counted each time."""
MAX_SITES: Final = 5000
MAX_LINE: Final = 1000
_HARMLESS: Final = frozenset(
    "server location upstream include root index server_name listen ssl try_files fastcgi_pass client_max_body_size "
    "fastcgi_read_timeout client_body_temp_path documentroot servername serveralias limitrequestbody timeout "
    "proxytimeout fcgidmaxrequestlen fcgidiotimeout fcgidbusytimeout <virtualhost <directory <directorymatch <location "
    "<locationmatch <files <filesmatch </virtualhost> </directory> </location> proxyset".split()
)
"""Directives and sections that hold no secret: only lines made of these go into diffs."""
_OWN: Final = frozenset({"127.0.0.1", "localhost", "[::1]", "::1", "", "*", "0.0.0.0", "[::]"})


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
    from fundamentum.webservers import iis  # noqa: PLC0415 — they use what stands here
    from fundamentum.webservers.apache import reading as apache  # noqa: PLC0415 — they use what stands here
    from fundamentum.webservers.nginx import reading as nginx  # noqa: PLC0415 — they use what stands here

    readers: dict[str, Reader] = {"apache2": apache.read, "nginx": nginx.read, "iis": iis.read}
    sites: dict[tuple[str, str, str, str | None], Site] = {}
    files: dict[str, list[str]] = {}
    remarks: list[Remark] = []
    for server, reader in readers.items():
        files[server] = []
        try:
            handoffs, files[server], said = reader(host, system)
            remarks += said
            served = _Serving(host, runtimes)
            for one in handoffs:
                host.budget.tick()
                _take(sites, one, served(one), remarks)
                if len(sites) >= MAX_SITES:
                    raise HostError(f"more than {MAX_SITES:,} sites: the rest is unknown")
        except HostError as error:
            remarks.append(Remark("web sites", str(error)))
    return tuple(sites.values()), files, list(dict.fromkeys(remarks))


def _take(
    sites: dict[tuple[str, str, str, str | None], Site], one: Handoff, runtime: Runtime | None, remarks: list[Remark]
) -> None:
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
        one.user if is_plain(one.user) else None,
    )
    key = (site.server, site.name, site.handler, site.part)
    same = sites.setdefault(key, site)  # often there twice, with HTTPS and without
    if site.secure and not same.secure:
        sites[key] = replace(same, secure=True)


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
                self._found.setdefault((kind, self._file(runtime.program), ""), runtime)

    def __call__(self, one: Handoff) -> Runtime | None:
        if one.kind == "socket":
            return self._found.get(("socket", *self._socket(one.target)))
        return self._found.get((one.kind, self._file(one.target), ""))

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


def spot(host: Host, origin: str) -> Spot | None:
    """A line of a configuration file, as it stands; None where its file has a name that no command should hold.

    The text is left empty where it holds more than one directive, or what may be a secret: it would go into diffs.
    """
    path, _, number = origin.rpartition(":")
    path = host.resolve(path) or path  # what is changed is the file, not a link to it
    at = whole(number)
    if at is None or not is_path(path):
        return None
    try:
        lines = (text_of(host, path) or "").split("\n")
    except HostError:
        return None
    text = lines[at - 1] if 0 < at <= len(lines) else ""
    recorded = not host.whole and text.rstrip().endswith("#")  # there was a comment, which recordings do not hold
    return Spot(path, at, text if _may_be_shown(text) and not recorded else "")


def _may_be_shown(line: str) -> bool:
    """Whether a line is plain enough to be repeated in a plan: it holds nothing secret, and nothing that steers."""
    directives, _, comment = line.partition("#")
    words = [part.split()[0].lower() for part in re.split(r"[;{}]", directives) if part.strip()]
    secret = without_credentials(line) != line or names_a_secret(comment)
    return len(line) < MAX_LINE and safe_line(line) == line and not secret and _HARMLESS.issuperset(words)


class Files:
    """Reads a web server's files, each with its includes, within bounds."""

    def __init__(self, host: Host, about: str) -> None:
        self.host, self.about = host, about
        self.read: list[str] = []
        self.remarks: list[Remark] = []
        self._texts: dict[str, str | None] = {}
        self._left = MAX_SITE_TEXT

    def text(self, path: str) -> str | None:
        """The file's text, or None with a remark.  A HostError once there is more of it than a server has."""
        self.host.budget.tick()
        if path not in self._texts:
            self._texts[path] = self._fresh(path)
        found = self._texts[path]
        self._left -= len(found or "") + 2000
        if self._left < 0 or len(self._texts) > MAX_FILES:
            raise HostError(
                f"{path}: {self.about} has no end of included files: sites set up from there on are unknown"
            )
        return found

    def _fresh(self, path: str) -> str | None:
        try:
            found = text_of(self.host, path)
        except Spent:
            raise
        except HostError as error:
            self.remarks.append(Remark("web sites", f"{error}: sites set up there are unknown"))
            return None
        if found is not None:
            self.read.append(path)
        return found

    def included(self, base: str, pattern: str) -> list[str]:
        """The files that an include line means."""
        path = posixpath.normpath(posixpath.join(base, pattern))
        return matching(self.host, path) if path.startswith("/") and not re.search(r"[${}]", path) else []
