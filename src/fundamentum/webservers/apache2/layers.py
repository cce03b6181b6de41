"""What Apache's configuration, and the ``.htaccess`` files it reads, change of PHP's for one site.

Source: Apache's documentation, "How the sections are merged" and "AllowOverride"; php.net, "How to change configuration
settings"; asked of real servers (``tests/real/test_laboratory.py``).
"""

import posixpath
import re
from collections.abc import Iterable, Iterator, Sequence
from typing import Final

import msgspec

from fundamentum.hosts.base import Host, HostError, folders_below, text_of
from fundamentum.model.layers import Assignment, Layer, LayerKind
from fundamentum.model.origin import Origin
from fundamentum.model.safe_text import is_directive
from fundamentum.untrusted.secrets import without_secrets
from fundamentum.webservers.apache2.lines import Line, Reader, Section, lines_of
from fundamentum.webservers.apache2.merging import (
    Rank,
    below_root,
    is_pattern,
    is_unclear,
    length_of,
    never_counts,
    order_of,
    part_of,
    place_in_site,
    place_of,
)
from fundamentum.webservers.handoffs import sent_along

PHP: Final = frozenset({"php_value", "php_flag", "php_admin_value", "php_admin_flag"})
_SENDING: Final = frozenset({"setenv", "setenvif", "setenvifnocase", "proxyfcgisetenvif", "unsetenv"})
_OVERRIDING: Final = frozenset({"allowoverride", "allowoverridelist", "accessfilename"})
_STARTING: Final = frozenset({"PHPRC", "PHP_INI_SCAN_DIR"})
_SENT: Final = frozenset({"PHP_VALUE", "PHP_ADMIN_VALUE"})
_CONDITIONAL: Final = frozenset(
    {"if", "elseif", "else", "limit", "limitexcept", "ifversion", "ifdirective", "ifsection"}
)
"""Sections of which a request decides whether they count, or something else that is not known here."""
GUARDING: Final = {
    **dict.fromkeys(("require", "authmerging", "satisfy"), "authconfig"),
    **dict.fromkeys(("allow", "deny", "order"), "limit"),
    **dict.fromkeys(("directoryindex",), "indexes"),
    **dict.fromkeys(("fallbackresource",), "indexes"),
    **dict.fromkeys(("rewriterule", "rewriteengine", "rewritecond", "rewritebase", "rewriteoptions"), "fileinfo"),
    **dict.fromkeys(("redirect", "redirectmatch", "errordocument"), "fileinfo"),
    **dict.fromkeys(("options",), "options"),
}
"""What such files say about who may ask and which file answers, with the class that lets them."""
MAX_ACCESS: Final = 256 * 1024


class Failing(msgspec.Struct, frozen=True):
    """Why every request of a site fails."""

    origin: Origin
    why: str


class Found(msgspec.Struct):
    """The layers of one site, in the order in which Apache applies them."""

    layers: list[Layer] = msgspec.field(default_factory=list)
    failing: Failing | None = None
    guards: list[Line] = msgspec.field(default_factory=list)
    """Lines of such files about who may ask, and which file answers for a directory."""
    allowances: list[Line] = msgspec.field(default_factory=list)
    """Lines of such files that limit requests."""
    handlers: list[Line] = msgspec.field(default_factory=list)
    """Lines of such files that hand PHP files to something else."""


def matters(line: Line) -> bool:
    """Whether a line says something about PHP's configuration, or about which files may."""
    if line.name == "use":
        return True
    if line.name in ("setenv", "fcgidinitialenv") and line.words and line.words[0] in _STARTING:
        return True
    return line.name in PHP | _OVERRIDING or (line.name in _SENDING and bool(_SENT.intersection(_sent_names(line))))


def _sent_names(line: Line) -> list[str]:
    return [word.partition("=")[0].lstrip("!") for word in line.words]


def layers_of(
    host: Host, main: Sequence[Line], mine: Sequence[Line], root: str | None, kind: str, reader: Reader
) -> Found:
    """The layers of a host whose document root this is, and whose requests are handed to a ``kind`` of PHP.

    ``main`` are the lines of the main server, ``mine`` those of the virtual host, both as :func:`matters` picks them.
    """
    found = Found()
    module = kind == "module"
    loaded = any(re.fullmatch(r"php\d?_module", name) for name in reader.modules)
    found.layers += _elsewhere((*main, *mine), kind)
    lines = [line for line in (*main, *mine) if line.name in PHP or line.name in _SENDING]
    access = _AccessFiles(
        host, [line for line in (*main, *mine) if line.name in _OVERRIDING], root, module, loaded, reader
    )
    ranked = access.read(found)
    for line in (*lines, *access.kept):
        below = place_in_site(line, root)
        if below is not None and not never_counts(line):
            ranked += ((order_of(line), layer) for layer in _layers(_kind_of(line), [line], below, module, root or ""))
    found.layers += (layer for _, layer in sorted(ranked, key=lambda pair: pair[0]))
    return found


def _kind_of(line: Line) -> LayerKind:
    """Which kind of place a line stands in."""
    outer, place = line.within("directory", "directorymatch"), place_of(line)
    if outer and outer.number < 0:
        return "htaccess"
    if place is None:
        return "server"
    if place.kind.startswith("location"):
        return "location"
    return "directory" if outer is place and not is_pattern(place) else "files"


def _elsewhere(lines: Iterable[Line], kind: str) -> Iterator[Layer]:
    """What makes PHP read other files than usual for a host, or cannot be followed: anything may be set there."""
    for line in lines:
        if line.name == "use":
            why = "a macro is used that says something about PHP's configuration, which is not followed"
            yield Layer("server" if kind == "module" else "request", (), line.origin, why)
        elif kind == "program" and line.words and line.words[0] in _STARTING:
            yield Layer("start", (), line.origin, f"{line.words[0]} makes PHP read other files")


def _layers(kind: LayerKind, lines: Iterable[Line], below: str, module: bool, root: str = "") -> Iterator[Layer]:
    """One layer for each line: later ones come later."""
    for line in lines:
        place = place_of(line)
        unclear = line.within(*_CONDITIONAL) or (place and is_unclear(place, root))
        unsure = "whether it counts is not known" if unclear else ""
        if line.name in PHP and module and len(line.words) > 1 and is_directive(line.words[0]):
            assignment = _assignment(line)
            values = (msgspec.structs.replace(assignment, value=None),) if unsure else (assignment,)
            yield Layer(kind, values, line.origin, below=below)
        elif line.name in _SENDING:
            sent = _sent(line, unsure)
            if sent and not module:
                yield msgspec.structs.replace(sent, below=below)


def _assignment(line: Line) -> Assignment:
    name, value = line.words[0], line.words[1]
    admin = line.name.startswith("php_admin")
    if line.name.endswith("flag"):
        value = "1" if value.lower() in ("on", "1") else "0"
    elif value.lower() == "none":
        value = ""
    return Assignment(name, without_secrets(name, value), line.origin, admin)


def _sent(line: Line, unsure: str) -> Layer | None:
    """What a line sends along with requests that are handed to PHP over FastCGI."""
    if line.name == "setenv" and not unsure:
        name, text = line.words[0], line.words[1] if len(line.words) > 1 else ""
        return sent_along(name, text.replace("\\n", "\n"), line.origin)
    name = next((name for name in _sent_names(line) if name in _SENT), "")
    return sent_along(name, None, line.origin)


class _AccessFiles:
    """The ``.htaccess`` files along the way to the document root and in it, as far as they are read."""

    def __init__(
        self, host: Host, lines: Sequence[Line], root: str | None, module: bool, loaded: bool, reader: Reader
    ) -> None:
        self.reader = reader
        self.host, self.lines, self.root, self.module, self.loaded = host, lines, root, module, loaded
        self.kept: list[Line] = []
        """Lines about PHP's configuration that count, as if each stood in a section for its directory."""
        named = [line for line in lines if line.name == "accessfilename" and line.words]
        self.names = named[-1].words if named else (".htaccess",)

    def read(self, found: Found) -> list[tuple[Rank, Layer]]:
        """Takes the lines of each file, the outermost directory first; layers for those that cannot be read."""
        unread: list[tuple[Rank, Layer]] = []
        if not self.root or not self.root.startswith("/"):
            return unread
        parts = self.root.strip("/").split("/")
        ways = ["/" + "/".join(parts[:length]) for length in range(1, len(parts) + 1)]
        found_below = [
            (path, names) for path, names in folders_below(self.host, self.root).folders if names & set(self.names)
        ]
        inner = {f"{self.root.rstrip('/')}/{path}": path for path, _ in found_below}
        for folder in (*ways, *inner):
            allowed = self._allowed(folder)
            if allowed is None:
                continue
            for name in self.names:
                unread += self._file(f"{folder}/{name}", allowed, inner.get(folder, ""), found)
        return unread

    def _allowed(self, folder: str) -> frozenset[str] | None:
        """What files in this directory may set, in lower case; None: they are not read."""
        counting = []
        for line in self.lines:
            place = place_of(line)
            if place is None or place.kind != "directory" or line.name == "accessfilename":
                continue
            if below_root(place, folder) == "":
                counting.append((length_of(place), line))
        classes: set[str] = set()
        listed_names: set[str] = set()
        for _, line in sorted(counting, key=lambda pair: pair[0]):
            words = {word.lower().partition("=")[0] for word in line.words}
            if line.name == "allowoverride":
                classes = set() if "none" in words else words
            else:
                listed_names = set() if "none" in words else words
        together = frozenset(classes | listed_names)
        return together or None

    def _file(self, path: str, allowed: frozenset[str], below: str, found: Found) -> Iterator[tuple[Rank, Layer]]:
        try:
            text = text_of(self.host, path, MAX_ACCESS)
        except HostError as error:
            files = Section("files", "*", 0)  # it may hold sections for files, which come later
            order = order_of(_inside(Line("", (), Origin(path), (files,)), path))
            yield order, Layer("htaccess", (), Origin(path), f"{error}: what it sets is unknown", below)
            return
        for line in lines_of(path, text or "", self.reader.holds):
            place = place_of(line)
            if place and part_of(place) is None:
                continue
            if (needs := GUARDING.get(line.name)) and ({"all", needs, line.name} & allowed):
                found.guards.append(_inside(line, path))
            if line.name == "limitrequestbody" and line.words:
                found.allowances.append(_inside(line, path))
            elif line.name in PHP:
                if failing := self._refused(line, allowed):
                    found.failing = found.failing or (failing if not below else None)
                    continue
                self.kept.append(_inside(line, path))
            elif line.name in _SENDING:
                if {"all", "fileinfo"} & allowed or line.name in allowed:
                    self.kept.append(_inside(line, path))
                elif not below:
                    why = f"AllowOverride does not let such a file use {line.name}"
                    found.failing = found.failing or Failing(line.origin, why)
            elif line.name == "sethandler" or (line.name in ("addhandler", "addtype") and _hands_php(line)):
                if {"all", "fileinfo", line.name} & allowed:
                    found.handlers.append(_inside(line, path))
                elif not below:
                    why = f"AllowOverride does not let such a file use {line.name}"
                    found.failing = found.failing or Failing(line.origin, why)

    def _refused(self, line: Line, allowed: frozenset[str]) -> Failing | None:
        """Why Apache answers every request with an error because of this line; None if it takes it."""
        if not self.loaded:
            return Failing(line.origin, f"{line.name} is known to PHP as a module of Apache only")
        if line.name.startswith("php_admin"):
            return Failing(line.origin, f"{line.name} is not allowed in such a file")
        if not ({"all", "options"} & allowed or line.name in allowed):
            return Failing(line.origin, f"AllowOverride does not let such a file use {line.name}")
        if len(line.words) != 2 or "" in line.words:
            return Failing(line.origin, f"{line.name} takes a directive and its value, and neither may be empty")
        return None


def _inside(line: Line, path: str) -> Line:
    """The line of such a file as if it stood in a section for its directory, of several such after those."""
    place = Section("directory", posixpath.dirname(path), -1, Origin(path))
    return msgspec.structs.replace(line, inside=(place, *line.inside))


def _hands_php(line: Line) -> bool:
    return any("php" in word.lower() or word.lower().startswith("proxy:") for word in line.words)
