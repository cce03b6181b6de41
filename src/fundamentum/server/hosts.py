"""Where facts are read from: one narrow interface, so that every probe is written once and tested anywhere."""

import fnmatch
import mmap
import os
import posixpath
import re
import stat as stat_module
import struct
import subprocess
from pathlib import Path
from typing import BinaryIO, Final, Literal, Protocol

import msgspec

from fundamentum.server.around import Grant, Machine
from fundamentum.server.processes import Running, running

MAX_BYTES: Final = 256 * 1024 * 1024
"""No single file is read beyond this, whatever a server claims about it."""
MAX_NAMES: Final = 200_000
"""No directory is listed beyond this."""
PATH: Final = "/usr/sbin:/usr/bin:/sbin:/bin"
MAX_LINKS: Final = 40
"""As many symbolic links in one path as Linux follows."""


class HostError(Exception):
    """A file is there but cannot be read.  The message says why, in words for a remark."""


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

    @property
    def name(self) -> str: ...

    @property
    def live(self) -> bool:
        """Whether this is a running system, which has a host name and processes of its own."""

    def resolve(self, path: str) -> str | None:
        """The path with all links followed; None if there is nothing."""

    def running(self) -> Running:
        """The server processes that run inside this root, as far as that can be seen."""

    def answer(self, question: Question) -> bytes | None:
        """What the server's own program says; None where nothing may be run, or there is no such program."""

    def read(self, path: str, limit: int = MAX_BYTES) -> bytes | None:
        """The file's bytes, at most ``limit`` of them; None if there is no such file."""

    def view(self, path: str) -> bytes | mmap.mmap | None:
        """A large file's bytes, without a copy of them where that can be avoided."""

    def whole_size(self, path: str, read: int) -> int:
        """The size of the file on the server, of which ``read`` bytes were had: a recording may hold just a part."""

    def names(self, path: str) -> list[str]:
        """The names in a directory, sorted by byte value; empty if there is no such directory."""

    def stat(self, path: str) -> Stat | None:
        """What the path is, links followed; None if it does not exist."""

    def extras(self, path: str) -> Extras:
        """Access lists, label and free space of a path that exists."""

    def machine(self) -> Machine:
        """Memory, processors and enforcement of a running system; nothing of one that does not run."""


class DirectoryHost:
    """A root file system: the machine's own (``/``) or one below a directory.

    Nothing in it is executed.  Absolute links are taken as absolute *inside* the root, and ``..`` stops at it,
    so that no path leads outside.
    """

    windows = False
    whole = True

    def __init__(self, root: Path, name: str, *, live: bool = False) -> None:
        self.root, self.name, self.live = root, name, live
        self.passed_over: list[str] = []
        self._prefix = str(root).rstrip("/")
        self._folders: dict[str, str] = {}

    def read(self, path: str, limit: int = MAX_BYTES) -> bytes | None:
        stream = self._opened(path)
        if stream is None:
            return None
        with stream:
            try:
                return stream.read(limit)
            except OSError as error:
                raise HostError(f"{path}: {error.strerror}") from error

    def view(self, path: str) -> bytes | mmap.mmap | None:
        stream = self._opened(path)
        if stream is None:
            return None
        with stream:
            size = os.fstat(stream.fileno()).st_size
            if not 0 < size <= MAX_BYTES:
                return stream.read(MAX_BYTES)
            # apt replaces its files by new ones and never shortens them in place, so the mapping stays whole.
            return mmap.mmap(stream.fileno(), size, access=mmap.ACCESS_READ)

    def whole_size(self, path: str, read: int) -> int:
        return read

    def _opened(self, path: str) -> BinaryIO | None:
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
        if not stat_module.S_ISREG(os.fstat(descriptor).st_mode):
            os.close(descriptor)
            raise HostError(f"{path}: not a regular file")
        return open(descriptor, "rb")

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
        odd = [name for name in found if not name.isascii() and any(0xDC80 <= ord(c) <= 0xDCFF for c in name)]
        self.passed_over += [path] if odd else []
        return [name for name in found if name not in odd][:MAX_NAMES]

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

    def extras(self, path: str) -> Extras:
        real = self._outside(path)
        if real is None:
            return Extras()
        try:
            space = os.statvfs(real) if self.live else None
            closed = Path(real).is_dir() and not os.access(real, os.R_OK | os.X_OK)
        except OSError:
            return Extras()
        label = _attribute(real, "security.selinux").rstrip(b"\0").decode("utf-8", "replace")
        grants = _grants(_attribute(real, "system.posix_acl_access"))
        return Extras(grants, label, space.f_bavail * space.f_frsize if space else None, closed)

    def machine(self) -> Machine:
        if not self.live:
            return Machine()
        memory = re.search(r"^MemTotal:\s+(\d+) kB", text_or_none(self, "/proc/meminfo") or "", re.M)
        enforce = text_or_none(self, "/sys/fs/selinux/enforce")
        return Machine(
            memory=int(memory[1]) * 1024 if memory else None,
            processors=len(os.sched_getaffinity(0)),
            enforcing=None if enforce is None else enforce.strip() == "1",
            permissive=enforce is not None and enforce.strip() == "0",
        )

    def resolve(self, path: str) -> str | None:
        try:
            if not self._prefix:
                return os.path.realpath(path, strict=True)
            followed = self._followed(path, MAX_LINKS)
            return followed if self.stat(followed) else None
        except (OSError, HostError):
            return None

    def running(self) -> Running:
        return running(self.root)

    def answer(self, question: Question) -> bytes | None:
        if not self.live or self._prefix:
            return None
        try:
            done = subprocess.run(
                question.command, capture_output=True, check=False, timeout=60, env={"PATH": PATH, "LC_ALL": "C"}
            )
        except (OSError, subprocess.SubprocessError):
            return None
        return done.stdout[:MAX_BYTES] if done.returncode == 0 or question.lenient else None

    def _followed(self, path: str, links: int) -> str:
        """Follow every link by hand, one component at a time, never leaving the root."""
        todo: list[str] = path.split("/")[::-1]
        done: list[str] = []
        while todo:
            part = todo.pop()
            if part in ("", "."):
                continue
            if part == "..":
                if done:
                    done.pop()
                continue
            try:
                target = os.readlink("/".join((self._prefix, *done, part)))
            except (FileNotFoundError, NotADirectoryError) as error:
                raise FileNotFoundError(path) from error
            except OSError:  # not a link
                done.append(part)
                continue
            links -= 1
            if links < 0:
                raise HostError(f"{path}: too many levels of symbolic links")
            if target.startswith("/"):
                done.clear()
            todo.extend(target.split("/")[::-1])
        return "/" + "/".join(done)

    def _outside(self, path: str) -> str | None:
        """The path to open, as seen from this program.

        Directories are followed once and remembered: the probes read many files of few directories.
        """
        if "\0" in path:
            return None
        if not self._prefix:
            return path
        try:
            for _ in range(MAX_LINKS):
                folder, _, name = path.rpartition("/")
                if name in ("", ".", ".."):
                    return self._prefix + self._followed(path, MAX_LINKS)
                inside = self._folders.get(folder)
                if inside is None:
                    inside = self._folders[folder] = self._followed(folder, MAX_LINKS).rstrip("/")
                try:
                    target = os.readlink(f"{self._prefix}{inside}/{name}")
                except OSError:  # not a link, or nothing there: opening it will tell
                    return f"{self._prefix}{inside}/{name}"
                path = target if target.startswith("/") else f"{inside}/{target}"
        except FileNotFoundError:
            return None
        raise HostError(f"{path}: too many levels of symbolic links")


def _attribute(path: str, name: str) -> bytes:
    try:
        return os.getxattr(path, name)
    except OSError:
        return b""


def _grants(data: bytes) -> tuple[Grant, ...]:
    """The entries of an access list; none where it says no more than the mode.  Source: linux/posix_acl_xattr.h."""
    kinds: dict[int, Literal["user", "group", "owning-group", "mask"]] = {
        0x02: "user",
        0x04: "owning-group",
        0x08: "group",
        0x10: "mask",
    }
    if len(data) < 4 or struct.unpack_from("<I", data)[0] != 2:
        return ()
    entries = struct.iter_unpack("<HHI", data[4 : 4 + (len(data) - 4) // 8 * 8])
    found = tuple(
        Grant(kinds[tag], who if tag in (0x02, 0x08) else 0, bits) for tag, bits, who in entries if tag in kinds
    )
    return found if len(found) > 1 else ()


def this_machine() -> DirectoryHost:
    """The machine this program runs on."""
    return DirectoryHost(Path("/"), os.uname().nodename, live=True)


def text_of(host: Host, path: str, limit: int = 4 * 1024 * 1024) -> str | None:
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


def matching(host: Host, pattern: str) -> list[str]:
    """The paths that fit a shell pattern, in order; ``*`` does not match a leading dot or a slash."""
    found = ["/"]
    for part in pattern.strip("/").split("/"):
        if any(c in part for c in "*?["):
            found = [
                posixpath.join(folder, name)
                for folder in found
                for name in listed(host, folder)
                if fnmatch.fnmatchcase(name, part) and (not name.startswith(".") or part.startswith("."))
            ]
        else:
            found = [posixpath.join(folder, part) for folder in found]
    return [path for path in found[:MAX_NAMES] if any(c in pattern for c in "*?[") or host.stat(path)]
