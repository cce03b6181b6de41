"""What the readers of web servers' configuration have in common: handoffs to PHP, files within bounds, lines."""

import posixpath
import re
from collections.abc import Callable, Iterable, Mapping
from typing import Final, Literal

import msgspec

from fundamentum.hosts.base import Host, HostError, listed, matching, text_of
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.layers import Assignment, Layer, LayerKind
from fundamentum.model.origin import Origin
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_directive, is_path, safe_line
from fundamentum.model.surrounding_facts import Barrier, FirstPage, Limit, Spot, UnknownLine, Visit
from fundamentum.php_files import ini
from fundamentum.untrusted.budget import Spent
from fundamentum.untrusted.secrets import names_a_secret, without_credentials, without_secrets

MAX_FILES: Final = 20_000
MAX_SITE_TEXT: Final = 32 * 1024 * 1024
"""Bytes of one web server's configuration, included files counted each time."""
MAX_UNLINKED: Final = 200
"""Files of sites that are looked into although the web server does not read them."""
_SITE_FILE: Final = lazy_regex(r"[A-Za-z0-9_][A-Za-z0-9_.-]*")
PLAIN_PATH: Final = lazy_regex(r"/[A-Za-z0-9_./-]*")
"""A path that can be put into a line of any web server's configuration as it is."""
MAX_LINE: Final = 1000
MAX_SENT: Final = 20_000
MAX_VALUES: Final = 500
"""Directives that one place of a site sets."""


class Handoff(msgspec.Struct, frozen=True):
    """One place in a web server's configuration that hands requests to PHP."""

    names: tuple[str, ...]
    server: str
    origin: Origin
    root: str | None
    part: str | None
    """The location, or the beginning of addresses, where it is not the whole site."""
    kind: Literal["socket", "module", "program", "web", "unclear", "none"]
    target: str
    """The socket or address, the module's file, the program, or the address of another web server."""
    limits: tuple[Limit, ...] = ()
    secure: bool = False
    spot: Spot | None = None
    user: str | None = None
    group: str | None = None
    address: str = ""
    """Where the web server waits for such requests."""
    both_protocols: bool = False
    """Whether it waits for IPv6 beside IPv4, where that is said apart."""
    set_up: Origin | None = None
    """The beginning of the section that is the site."""
    keeps_name: bool = True
    """Whether another web server is asked for the site by the name that the visitor used."""
    ini_path: str = ""
    """The php.ini, or its directory, that the web server gives a PHP inside it; empty: it leaves that to PHP."""
    variables: Mapping[str, str] = {}
    """Environment variables that decide which files PHP reads, where the web server starts PHP with such."""
    identity: str = ""
    visitor: str = ""
    pool: str = ""
    """As :attr:`~fundamentum.model.survey.Site.identity`, ``visitor`` and ``service_pool`` have it."""
    idle: bool = False
    """Whether it stands in a file that the web server does not read."""
    barriers: tuple[Barrier, ...] = ()
    failing: str = ""
    """Why every such request fails, whatever PHP is."""
    unknown_lines: tuple[UnknownLine, ...] = ()
    """As :attr:`~fundamentum.model.survey.Site.unknown_lines` has it."""
    refused: tuple[UnknownLine, ...] = ()
    """As :attr:`~fundamentum.model.survey.Site.refused` has it."""
    layers: tuple[Layer, ...] = ()
    """What the web server's configuration changes of PHP's, for these requests."""
    modules: tuple[str, ...] = ()
    """The modules that the web server's configuration loads."""
    handed: Spot | None = None
    """The line itself, as it stands, where it can be changed."""
    visit: Callable[[str], Visit] | None = None
    """What comes of an address, as :attr:`~fundamentum.model.survey.Site.visits` has it."""
    aliased: bool = False
    """Whether the files in ``root`` are asked for by other addresses than their names below it."""
    first_page: FirstPage = ""
    """As :attr:`~fundamentum.model.survey.Site.first_page` has it."""


HandoffsRead = tuple[list[Handoff], list[str], list[Remark]]
"""Handoffs, the files they were read from, and what could not be read."""


def spot(host: Host, origin: Origin, harmless: frozenset[str]) -> Spot | None:
    """A line of a configuration file, as it stands; None where its file has a name that no command should hold.

    The text is left empty where it holds a directive that is not among the ``harmless`` ones, or what may be a secret:
    it would go into diffs.
    """
    path = host.resolve(origin.file) or origin.file  # what is changed is the file, not a link to it
    at = origin.line
    if at is None or not is_path(path):
        return None
    try:
        lines = (text_of(host, path) or "").split("\n")
    except HostError:
        return None
    text = lines[at - 1] if 0 < at <= len(lines) else ""
    recorded = not host.whole and text.rstrip().endswith("#")  # there was a comment, which recordings do not hold
    return Spot(path, at, text if _may_be_shown(text, harmless) and not recorded else "", at == len(lines))


def _may_be_shown(line: str, harmless: frozenset[str]) -> bool:
    """Whether a line is plain enough to be repeated in a plan: it holds nothing secret, and nothing that steers."""
    directives, _, comment = line.partition("#")
    words = [part.split()[0].lower() for part in re.split(r"[;{}]", directives) if part.strip()]
    secret = without_credentials(line) != line or names_a_secret(comment)
    return len(line) < MAX_LINE and safe_line(line) == line and not secret and harmless.issuperset(words)


_CONSTANT: Final = lazy_regex(r"\b(?:E|PHP|M)_[A-Z]+\b")


def sent_along(name: str, text: str | None, origin: Origin) -> Layer | None:
    """What a FastCGI parameter sets of PHP's configuration; ``text`` None: it depends on the request.

    Source: ``fastcgi_cgi_main`` of FPM: the text is read as an ini file.
    """
    kind: LayerKind | None = {"PHP_VALUE": "request", "PHP_ADMIN_VALUE": "request-admin"}.get(name)  # type: ignore[assignment]
    if kind is None:
        return None
    if text is None or len(text) > MAX_SENT:
        return Layer(kind, (), origin, f"what {name} holds depends on the request")
    if _CONSTANT.search(text):
        return Layer(kind, (), origin, f"what {name} holds is put together from constants of PHP")
    values = assignments(text, {}, lambda _: origin, admin=kind == "request-admin")
    return Layer(kind, values, origin)


def assignments(
    text: str, constants: Mapping[str, str], at: Callable[[int], Origin], *, admin: bool = False
) -> tuple[Assignment, ...]:
    """The lines of a text in ini syntax, up to where it breaks off.  ``at`` tells where a line of it stands."""
    entries = ini.parse(text, constants).entries
    return tuple(
        Assignment(entry.name, entry.value and without_secrets(entry.name, entry.value), at(entry.line), admin)
        for entry in entries[:MAX_VALUES]
        if entry.key is None and is_directive(entry.name)
    )


def is_file(host: Host, path: str) -> bool:
    """Whether a path leads to a file."""
    about = host.stat(path)
    return about is not None and not about.is_directory


def unlinked(host: Host, available: str, enabled: str, read: Iterable[str]) -> list[str]:
    """Files of sites that could be linked where the web server reads them, and are not."""
    if host.windows or not host.stat(enabled):
        return []
    known = {host.resolve(path) for path in read if path.startswith((enabled, available))}
    names = [name for name in listed(host, available) if _SITE_FILE.fullmatch(name)]
    paths = [f"{available}/{name}" for name in names[:MAX_UNLINKED]]
    return [
        path
        for path in paths
        if host.resolve(path) not in known and not host.stat(f"{enabled}/{posixpath.basename(path)}")
    ]


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
        content = self._texts[path]
        self._left -= len(content or "") + 2000
        if self._left < 0 or len(self._texts) > MAX_FILES:
            raise HostError(
                f"{path}: {self.about} has no end of included files: sites set up from there on are unknown"
            )
        return content

    def _fresh(self, path: str) -> str | None:
        try:
            text = text_of(self.host, path)
        except Spent:
            raise
        except HostError as error:
            self.remarks.append(Remark("web sites", f"{error}: sites set up there are unknown"))
            return None
        if text is not None:
            self.read.append(path)
        return text

    def included(self, base: str, pattern: str) -> list[str]:
        """The files that an include line means."""
        path = posixpath.normpath(posixpath.join(base, pattern))
        if not path.startswith("/") or re.search(r"[${}]", path):
            return []
        paths = matching(self.host, path)
        if not paths and not self.host.whole and not path.startswith(f"{base.rstrip('/')}/"):
            why = f"{path} is included, and nothing of it is in the recording: sites set up there are unknown"
            self.remarks.append(Remark("web sites", why))
        return paths
