"""Where facts are read from: one narrow interface, so that every probe is written once and tested anywhere."""

import fnmatch
import mmap
import posixpath
import re
from collections.abc import Sequence
from typing import BinaryIO, Final, Protocol

import msgspec

from fundamentum.errors import HostError
from fundamentum.hosts.processes import VARIABLES, Running
from fundamentum.model.surrounding_facts import Access, Asked, Grant, Machine
from fundamentum.untrusted.budget import Budget

__all__ = [
    "MAX_BYTES",
    "MAX_NAMES",
    "MAX_TEXT",
    "Below",
    "Extras",
    "Host",
    "HostError",
    "Question",
    "Stat",
    "Visit",
    "folders_below",
    "listed",
    "matching",
    "text_of",
    "text_or_none",
]

MAX_BYTES: Final = 128 * 1024 * 1024
"""No larger file is read, whatever a server claims about it: full package indexes have half of that."""
MAX_TEXT: Final = 4 * 1024 * 1024
"""No larger configuration file is read."""
MAX_NAMES: Final = 50_000
"""No directory with more names is listed: the fullest that counts, that of a package database, has half of that."""
MAX_BELOW: Final = 150
"""Directories of one site in which files of its own are looked for."""
MAX_DEPTH_BELOW: Final = 3
LIBRARIES: Final = frozenset({"vendor", "node_modules"})
"""Directories of libraries, which have no pages of their own."""
MAX_PARTS: Final = 60
"""No path has more parts."""
MAX_PATTERN: Final = 20_000
"""A pattern that fits more files than this is not one that a person wrote."""


class Stat(msgspec.Struct, frozen=True):
    """What is known of a file without reading it."""

    size: int
    modified: float
    is_directory: bool
    mode: int
    user: int
    group: int


class Extras(msgspec.Struct, frozen=True):
    """What only some file systems keep beside owner and mode."""

    grants: tuple[Grant, ...] = ()
    label: str = ""
    free: int | None = None
    closed: bool = False
    """Whether it is a directory that the one who looks may not look into."""
    access: tuple[Access, ...] | None = None
    """Who may do what, where rights are those of names."""


class Visit(msgspec.Struct, frozen=True):
    """When a server is looked at, and by whom."""

    taken: int | None = None
    """Seconds since 1970.  None: it is not known."""
    as_root: bool | None = None
    """Whether everything may be read there."""


class Question(msgspec.Struct, frozen=True):
    """A program of the server's own that reads something no file says plainly.  It changes nothing."""

    name: str
    command: tuple[str, ...]
    lenient: bool = False
    """Whether what it says counts although it ends with an error: it was asked about several things."""


class Host(Protocol):
    """A server as files.  Paths are absolute and POSIX; a missing file is None, an unreadable one a HostError."""

    passed_over: list[str]
    """Directories in which a name is no UTF-8 text, and was left out."""
    windows: bool
    """Whether this is a Windows machine."""
    whole: bool
    """Whether files are had as they stand: a recording holds no comments."""
    visit: Visit
    asked: Asked | None
    """What was asked about when it was recorded; None: all of it can be looked at."""
    budget: Budget
    """What may still be read of this server."""

    @property
    def name(self) -> str: ...

    @property
    def live(self) -> bool:
        """Whether this is a running system, which has a host name and processes of its own."""

    def resolve(self, path: str) -> str | None:
        """The path with all links followed; None if there is nothing."""

    def running(self, beginnings: Sequence[str], names: Sequence[str] = VARIABLES) -> Running:
        """The processes inside this root whose command lines begin so, as far as that can be seen.

        Each beginning is an extended regular expression, ``names`` are the variables that are wanted of each process; a
        recording holds those of its recorder.
        """

    def answer(self, question: Question) -> bytes | None:
        """What the server's own program says; None where nothing may be run, or there is no such program."""

    def read(self, path: str, limit: int = MAX_BYTES) -> bytes | None:
        """The file's bytes; None if there is no such file, a HostError if it has more than ``limit`` of them."""

    def stream(self, path: str) -> BinaryIO | None:
        """The file, to be read in pieces; None if there is none.  What is read of it is for the caller to count."""

    def view(self, path: str) -> bytes | mmap.mmap | None:
        """A large file's bytes, without a copy of them where that can be avoided."""

    def whole_size(self, path: str, read: int) -> int:
        """The size of the file on the server, of which ``read`` bytes were had: a recording may hold just a part."""

    def names(self, path: str) -> list[str]:
        """The names in a directory, sorted by byte value; empty if there is no such directory.

        A HostError if it cannot be listed, or has more than ``MAX_NAMES``.
        """

    def entries(self, path: str) -> list[tuple[str, Stat | None]]:
        """The names in a directory as :meth:`names` has them, each with what it is; None for a link."""

    def stat(self, path: str) -> Stat | None:
        """What the path is, links followed; None if it leads to nothing.  Never raises."""

    def changed(self, path: str) -> float | None:
        """When what the path leads to changed last, or the link at its end did (seconds since 1970); None as above."""

    def extras(self, path: str) -> Extras:
        """Access lists, label and free space of a path that exists."""

    def machine(self) -> Machine:
        """Memory, processors and enforcement of a running system; nothing of one that does not run."""


def text_of(host: Host, path: str, limit: int = MAX_TEXT) -> str | None:
    """A small configuration file as text.  Bytes that are not UTF-8 become replacement characters."""
    data = host.read(path, limit)
    return None if data is None else data.decode("utf-8", "replace")


def text_or_none(host: Host, path: str) -> str | None:
    """A small file as text; None also where it cannot be read."""
    try:
        return text_of(host, path)
    except HostError:
        return None


def listed(host: Host, path: str) -> list[str]:
    """The names in a directory; none where it cannot be read."""
    try:
        return host.names(path)
    except HostError:
        return []


class Below(msgspec.Struct, frozen=True):
    """The directories below one, as far as they are looked at."""

    folders: tuple[tuple[str, frozenset[str]], ...]
    """Path from that directory, and the names in it; those above come before those in them."""
    stopped: bool = False
    """Whether there are more at such a depth."""


def folders_below(host: Host, root: str) -> Below:
    """The directories in which files of a site's own may lie: neither hidden ones, nor libraries, nor far below."""
    parts: list[tuple[str, frozenset[str]]] = []
    todo = [("", 0)]
    for path, depth in todo:
        if len(parts) > MAX_BELOW:
            return Below(tuple(parts[1:]), True)
        absolute = posixpath.join(root, path)
        try:
            entries = host.entries(absolute)
        except HostError:
            continue
        parts.append((path, frozenset(name for name, _ in entries)))
        for name, about in entries if depth < MAX_DEPTH_BELOW else ():
            if name.startswith(".") or name in LIBRARIES:
                continue
            about = about or host.stat(posixpath.join(absolute, name))  # a link may lead to a directory as well
            if about and about.is_directory:
                todo.append((posixpath.join(path, name), depth + 1))
    return Below(tuple(parts[1:]))


def matching(host: Host, pattern: str) -> list[str]:
    """The paths that fit a shell pattern, in order; ``*`` does not match a leading dot or a slash."""
    folders = ["/"]
    wild = False
    for part in pattern.strip("/").split("/")[:MAX_PARTS]:
        if any(c in part for c in "*?["):
            wild = True
            fits = re.compile(fnmatch.translate(re.sub(r"\*+", "*", part[:255])))
            hidden = part.startswith(".")
            folders = [
                posixpath.join(folder, name)
                for folder in folders
                for name in listed(host, folder)
                if (hidden or not name.startswith(".")) and fits.match(name)
            ][:MAX_PATTERN]
        else:
            folders = [posixpath.join(folder, part) for folder in folders]
    return [path for path in folders if wild or host.stat(path)]
