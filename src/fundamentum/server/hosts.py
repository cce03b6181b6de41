"""Where facts are read from: one narrow interface, so that every probe is written once and tested anywhere."""

import os
import posixpath
import stat as stat_module
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Final, Protocol

MAX_BYTES: Final = 256 * 1024 * 1024
"""No single file is read beyond this, whatever a server claims about it."""
MAX_NAMES: Final = 200_000
"""No directory is listed beyond this."""
MAX_LINKS: Final = 40
"""As many symbolic links in one path as Linux follows."""


class HostError(Exception):
    """A file is there but cannot be read.  The message says why, in words for a remark."""


@dataclass(frozen=True, slots=True)
class Stat:
    """What is known of a file without reading it."""

    size: int
    modified: float
    is_directory: bool
    mode: int
    user: int
    group: int


class Host(Protocol):
    """A server as files.  Paths are absolute and POSIX; a missing file is None, an unreadable one a HostError."""

    @property
    def name(self) -> str: ...

    @property
    def live(self) -> bool:
        """Whether this is a running system whose processes can be seen under ``/proc``."""

    def read(self, path: str, limit: int = MAX_BYTES) -> bytes | None:
        """The file's bytes, at most ``limit`` of them; None if there is no such file."""

    def names(self, path: str) -> list[str]:
        """The names in a directory, sorted by byte value; empty if there is no such directory."""

    def stat(self, path: str) -> Stat | None:
        """What the path is, links followed; None if it does not exist."""

    def resolve(self, path: str) -> str | None:
        """The path with all links followed, as seen from inside the server; None if it does not exist."""


@dataclass(frozen=True)
class DirectoryHost:
    """A root file system: the machine's own (``/``) or one below a directory.

    Nothing in it is executed.  Absolute links are taken as absolute *inside* the root, and ``..`` stops at it,
    so that no path leads outside.
    """

    root: Path
    name: str
    live: bool = False

    def read(self, path: str, limit: int = MAX_BYTES) -> bytes | None:
        real = self._outside(path)
        if real is None:
            return None
        try:
            # Not blocking, so that a named pipe in the way cannot hold us.
            descriptor = os.open(real, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except (FileNotFoundError, NotADirectoryError):
            return None
        except OSError as error:
            raise HostError(f"{path}: {error.strerror}") from error
        with open(descriptor, "rb") as stream:
            if not stat_module.S_ISREG(os.fstat(descriptor).st_mode):
                raise HostError(f"{path}: not a regular file")
            try:
                return stream.read(limit)
            except OSError as error:
                raise HostError(f"{path}: {error.strerror}") from error

    def names(self, path: str) -> list[str]:
        real = self._outside(path)
        if real is None:
            return []
        try:
            found = sorted(os.listdir(real), key=os.fsencode)
        except (FileNotFoundError, NotADirectoryError):
            return []
        except OSError as error:
            raise HostError(f"{path}: {error.strerror}") from error
        return found[:MAX_NAMES]

    def stat(self, path: str) -> Stat | None:
        real = self._outside(path)
        if real is None:
            return None
        try:
            found = os.stat(real)
        except OSError:
            return None
        return Stat(
            size=found.st_size,
            modified=max(found.st_mtime, found.st_ctime),  # a package's files keep the date of its build
            is_directory=stat_module.S_ISDIR(found.st_mode),
            mode=stat_module.S_IMODE(found.st_mode),
            user=found.st_uid,
            group=found.st_gid,
        )

    def resolve(self, path: str) -> str | None:
        """Follow every link by hand, one component at a time, never leaving the root."""
        todo: list[str] = path.split("/")[::-1]
        done: list[str] = []
        links = 0
        while todo:
            part = todo.pop()
            if part in ("", "."):
                continue
            if part == "..":
                if done:
                    done.pop()
                continue
            here = os.path.join(self.root, *done, part)
            try:
                target = os.readlink(here)
            except FileNotFoundError:
                return None
            except NotADirectoryError:
                return None
            except OSError:  # not a link
                done.append(part)
                continue
            links += 1
            if links > MAX_LINKS:
                raise HostError(f"{path}: too many levels of symbolic links")
            if target.startswith("/"):
                done.clear()
            todo.extend(target.split("/")[::-1])
        inside = "/" + "/".join(done)
        return inside if os.path.lexists(os.path.join(self.root, *done)) else None

    def _outside(self, path: str) -> str | None:
        """The path to open, as seen from this program."""
        if "\0" in path:
            return None
        if str(self.root) == "/":
            return path
        folder, name = posixpath.split(path)
        inside = self._folder(folder)
        if inside is None or name in ("", ".", ".."):
            resolved = self.resolve(path)
            return None if resolved is None else os.path.join(self.root, resolved.lstrip("/"))
        candidate = os.path.join(self.root, inside.lstrip("/"), name)
        if os.path.islink(candidate):
            resolved = self.resolve(posixpath.join(inside, name))
            return None if resolved is None else os.path.join(self.root, resolved.lstrip("/"))
        return candidate

    def _folder(self, path: str) -> str | None:
        """Resolved directories, remembered: the probes read many files of few directories."""
        cache = self.__dict__.setdefault("_folders", {})
        if path not in cache:
            cache[path] = self.resolve(path)
        found: str | None = cache[path]
        return found


def this_machine() -> DirectoryHost:
    """The machine this program runs on."""
    return DirectoryHost(Path("/"), os.uname().nodename, live=True)


def text_of(host: Host, path: str, limit: int = 4 * 1024 * 1024) -> str | None:
    """A small configuration file as text.  Bytes that are not UTF-8 are kept as surrogates, not lost."""
    data = host.read(path, limit)
    return None if data is None else data.decode("utf-8", "surrogateescape")


def first_existing(host: Host, paths: Sequence[str]) -> str | None:
    """The first of the paths that exists."""
    return next((path for path in paths if host.stat(path)), None)
