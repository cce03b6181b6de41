"""The ``.htaccess`` files along the way to a document root and in it: which of them are read, and what they say.

Source: Apache's documentation of ``AllowOverride`` and ``AccessFileName``.  A line that Apache does not take makes it
answer every request for that directory with an error.
"""

import posixpath
from collections.abc import Iterator, Sequence
from typing import Final

import msgspec

from fundamentum.hosts.base import Host, HostError, folders_below, text_of
from fundamentum.model.layers import Layer
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import UnknownLine
from fundamentum.webservers.apache2.directives import Allowed, Mistake, Modules, mistake
from fundamentum.webservers.apache2.lines import Line, Reader, Section, lines_of
from fundamentum.webservers.apache2.merging import Rank, below_root, length_of, order_of, part_of, place_of
from fundamentum.webservers.apache2.programs import NAMES as PROGRAMS

PHP: Final = frozenset({"php_value", "php_flag", "php_admin_value", "php_admin_flag"})
SENDING: Final = frozenset({"setenv", "setenvif", "setenvifnocase", "proxyfcgisetenvif", "unsetenv"})
"""What may send values along with requests that are handed to PHP over FastCGI."""
_GUARDING: Final = frozenset(
    {
        *("require", "authmerging", "satisfy", "allow", "deny", "order", "options", "directoryindex"),
        *("fallbackresource", "rewriterule", "rewriteengine", "rewritecond", "rewritebase", "rewriteoptions"),
        *("redirect", "redirectmatch", "errordocument", *PROGRAMS),
    }
)
"""What such files say about who may ask, which file answers and which program is run."""
_BY_ENDING: Final = frozenset({"addhandler", "addtype", "removehandler", "removetype"})
MAX_ACCESS: Final = 256 * 1024
SWITCHES: Final = "/etc/apache2/mods-available"
"""Where each module that can be switched on has a file.  Source: a2enmod(8)."""
MAX_UNKNOWN: Final = 50
"""Lines of one site's files that may be unknown."""


class Failing(msgspec.Struct, frozen=True):
    """Why every request of a site fails."""

    origin: Origin
    why: str


class AccessFileLines(msgspec.Struct):
    """What such files say."""

    failing: Failing | None = None
    failing_below: tuple[str, Failing] | None = None
    """The same for a directory in its document root, by the path from there."""
    unknown: list[UnknownLine] = msgspec.field(default_factory=list)
    """Lines that Apache does not know, or may not know, as it is set up now."""
    guards: list[Line] = msgspec.field(default_factory=list)
    """About who may ask, and which file answers for a directory."""
    allowances: list[Line] = msgspec.field(default_factory=list)
    """Those that limit requests."""
    handlers: list[Line] = msgspec.field(default_factory=list)
    """Those that hand PHP files to something else."""


class AccessFiles:
    """The files of one site."""

    def __init__(self, host: Host, lines: Sequence[Line], root: str | None, reader: Reader) -> None:
        """``lines`` are those that tell which files are read, and what they may set: the main server's first."""
        self.host, self.lines, self.root, self.reader = host, lines, root, reader
        self.modules = Modules(reader.modules)
        self.php_loaded = "mod_php" in self.modules.names
        self.kept: list[Line] = []
        """Lines about PHP's configuration that count, as if each stood in a section for its directory."""
        named = [line for line in lines if line.name == "accessfilename" and line.words]
        self.names = named[-1].words if named else (".htaccess",)

    def read(self, access_file_lines: AccessFileLines) -> list[tuple[Rank, Layer]]:
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
            if allowed.nothing:
                continue
            for name in self.names:
                unread += self._file(f"{folder}/{name}", allowed, inner.get(folder, ""), access_file_lines)
        return unread

    def _allowed(self, folder: str) -> Allowed:
        """What files in this directory may set."""
        counting = []
        for line in self.lines:
            place = place_of(line)
            if place is None or place.kind != "directory" or line.name == "accessfilename":
                continue
            if below_root(place, folder) == "":
                counting.append((length_of(place), line))
        allowed = Allowed()
        for _, line in sorted(counting, key=lambda pair: pair[0]):
            allowed = allowed.by(line)
        return allowed

    def _file(self, path: str, allowed: Allowed, below: str, read: AccessFileLines) -> Iterator[tuple[Rank, Layer]]:
        try:
            text = text_of(self.host, path, MAX_ACCESS)
        except HostError as error:
            files = Section("files", "*", 0)  # it may hold sections for files, which come later
            order = order_of(_inside(Line("", (), Origin(path), (files,)), path))
            yield order, Layer("htaccess", (), Origin(path), f"{error}: what it sets is unknown", below)
            return
        for line in lines_of(path, text or "", self.reader.holds):
            wrong = self._mistake(line, allowed)
            if wrong is None:
                self._take(line, path, read)
            elif wrong.kind not in allowed.forgiven and below:
                read.failing_below = read.failing_below or (below, Failing(line.origin, wrong.why))
            elif wrong.kind not in allowed.forgiven:
                self._fail(line, wrong, read)

    def _mistake(self, line: Line, allowed: Allowed) -> Mistake | None:
        """Why Apache does not take a line.  What PHP inside Apache knows does not hang on how its module is called."""
        if line.name not in PHP:
            return mistake(line, allowed, self.modules)
        if not self.php_loaded:
            return Mistake(f"{line.name} is known to PHP as a module of Apache only", kind="unknown")
        if line.name.startswith("php_admin"):
            return Mistake(f"{line.name} is not allowed in such a file", kind="override")
        if not allowed.lets(line.name, ("options",)):
            return Mistake(f"AllowOverride does not let such a file use {line.name}", kind="override")
        if len(line.words) != 2 or "" in line.words:
            return Mistake(f"{line.name} takes a directive and its value, and neither may be empty")
        return None

    def _fail(self, line: Line, wrong: Mistake, read: AccessFileLines) -> None:
        if wrong.sure and not wrong.module:
            read.failing = read.failing or Failing(line.origin, wrong.why)
        elif len(read.unknown) < MAX_UNKNOWN and all(refused.module != wrong.module for refused in read.unknown):
            read.unknown.append(unknown_line(self.host, line, wrong))

    def _take(self, line: Line, path: str, read: AccessFileLines) -> None:
        place = place_of(line)
        if place and part_of(place) is None:
            return
        inside = _inside(line, path)
        if line.name in _GUARDING:
            read.guards.append(inside)
        elif line.name == "limitrequestbody" and line.words:
            read.allowances.append(inside)
        elif line.name in PHP | SENDING:
            self.kept.append(inside)
        elif line.name == "sethandler" or (line.name in _BY_ENDING and _hands_php(line)):
            read.handlers.append(inside)


def unknown_line(host: Host, line: Line, wrong: Mistake) -> UnknownLine:
    """The line for a survey, with whether the module that it needs is there."""
    there = bool(wrong.module) and host.stat(f"{SWITCHES}/{wrong.module}.load") is not None
    return UnknownLine(wrong.why, line.origin, wrong.module or None, there)


def _inside(line: Line, path: str) -> Line:
    """The line of such a file as if it stood in a section for its directory, of several such after those."""
    place = Section("directory", posixpath.dirname(path), -1, Origin(path))
    return msgspec.structs.replace(line, inside=(place, *line.inside))


def _hands_php(line: Line) -> bool:
    return any("php" in word.lower() or word.lower().startswith("proxy:") for word in line.words)
