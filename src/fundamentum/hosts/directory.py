"""A root file system as a host: the machine's own, or one below a directory."""

import itertools
import mmap
import os
import re
import stat as stat_module
import time
from collections.abc import Sequence
from pathlib import Path
from typing import BinaryIO, Final

from fundamentum.entries import entry
from fundamentum.hosts.base import MAX_BYTES, MAX_NAMES, Extras, HostError, Question, Stat, Visit, text_or_none
from fundamentum.hosts.extended_attributes import attribute, grants
from fundamentum.hosts.processes import VARIABLES, Running, running
from fundamentum.model.surrounding_facts import Asked, Machine
from fundamentum.untrusted.budget import Budget
from fundamentum.untrusted.files import PLAINLY

MAX_LINKS: Final = 40
"""As many symbolic links in one path as Linux follows."""
MAX_KEPT_FILE: Final = 128 * 1024
"""Bytes of one file that is kept for those who read it again."""
MAX_KEPT_FILES: Final = 16 * 1024 * 1024
"""Bytes of all of them together."""
MAX_PATH: Final = 4096
"""Bytes that Linux allows a path."""


class DirectoryHost:
    """A root file system: the machine's own (``/``) or one below a directory.

    Nothing in it is executed.  Absolute links are taken as absolute *inside* the root, and ``..`` stops at it,
    so that no path leads outside.
    """

    windows = False
    whole = True
    asked: Asked | None = None

    def __init__(self, root: Path, name: str, *, live: bool = False) -> None:
        self.root, self.name, self.live = root, name, live
        self.visit = Visit(int(time.time()), os.geteuid() == 0 if hasattr(os, "geteuid") else None)
        self.passed_over: list[str] = []
        self.budget = Budget()
        self._prefix = str(root).rstrip("/")
        self._folders: dict[str, str | None] = {}
        self._entries: dict[str, list[tuple[str, Stat | None]]] = {}
        self._contents: dict[str, bytes] = {}
        self._at: dict[str, bytes] = {}
        """The same by the place at which a file really is."""
        self._may_keep = MAX_KEPT_FILES

    def read(self, path: str, limit: int = MAX_BYTES) -> bytes | None:
        """The content: that of a small file as it was the first time, so that all of a survey speaks of one state."""
        known = self._contents.get(path)
        if known is not None and len(known) <= limit:
            return known
        real = self._outside(path)
        if real is None:
            return None
        known = self._at.get(real)  # the same few files are linked into every runtime's directory
        data = known if known is not None and len(known) <= limit else self._read(path, real, limit)
        if data is not None and len(data) <= min(MAX_KEPT_FILE, self._may_keep):
            self._may_keep -= len(data) if real not in self._at else 0
            self._contents[path] = self._at[real] = data
        return data

    def _read(self, path: str, real: str, limit: int) -> bytes | None:
        stream = self._opened(path, real)
        if stream is None:
            return None
        with stream:
            self._fits(path, os.fstat(stream.fileno()).st_size, limit)
            try:
                data = stream.read(limit + 1)
            except OSError as error:
                raise HostError(f"{path}: {error.strerror}") from error
        self._fits(path, len(data), limit)
        self.budget.read(len(data))
        return data

    def stream(self, path: str) -> BinaryIO | None:
        """The file, to be read in pieces; None if there is none.  What is read of it is for the caller to count."""
        return self._opened(path)

    def view(self, path: str) -> bytes | mmap.mmap | None:
        stream = self._opened(path)
        if stream is None:
            return None
        with stream:
            size = os.fstat(stream.fileno()).st_size
            self._fits(path, size, MAX_BYTES)
            self.budget.read(size)
            self.budget.keep(size)
            if not size:
                return stream.read(MAX_BYTES)
            # apt replaces its files by new ones and never shortens them in place, so the mapping stays whole.
            return mmap.mmap(stream.fileno(), size, access=mmap.ACCESS_READ)

    @staticmethod
    def _fits(path: str, size: int, limit: int) -> None:
        if size > limit:
            raise HostError(f"{path}: larger than {limit >> 10:,} KiB: not read")

    def whole_size(self, path: str, read: int) -> int:
        return read

    def _opened(self, path: str, real: str | None = None) -> BinaryIO | None:
        self.budget.entry()
        real = real or self._outside(path)
        if real is None:
            return None
        try:
            descriptor = os.open(real, PLAINLY)
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
        self.budget.entry()
        try:
            with os.scandir(real) as entries:
                listed = [entry.name for entry in itertools.islice(entries, MAX_NAMES + 1)]
        except (FileNotFoundError, NotADirectoryError):
            return []
        except OSError as error:
            raise HostError(f"{path}: {error.strerror}") from error
        self.budget.entry(len(listed))
        if len(listed) > MAX_NAMES:
            raise HostError(f"{path}: more than {MAX_NAMES:,} names: not listed")
        odd = [name for name in listed if not name.isascii() and any(0xDC80 <= ord(c) <= 0xDCFF for c in name)]
        self.passed_over += [path] if odd else []
        return sorted((name for name in listed if name not in odd), key=os.fsencode)

    def entries(self, path: str) -> list[tuple[str, Stat | None]]:
        if path in self._entries:
            return self._entries[path]
        names = self.names(path)
        real = self._outside(path) or ""
        listed: list[tuple[str, Stat | None]] = []
        for name in names:
            try:
                about = os.lstat(f"{real}/{name}")
            except OSError:
                continue
            listed.append((name, None if stat_module.S_ISLNK(about.st_mode) else _stat(about)))
        self._entries[path] = listed
        return listed

    def stat(self, path: str) -> Stat | None:
        try:
            self.budget.entry()
            real = self._outside(path)
            status = os.stat(real) if real is not None else None
        except (OSError, ValueError, HostError):
            return None
        return None if status is None else _stat(status)

    def changed(self, path: str) -> float | None:
        about = self.stat(path)
        folder, _, name = path.rpartition("/")
        try:
            link = os.lstat(f"{self._outside(folder or '/')}/{name}") if about else None
        except (OSError, ValueError, HostError):
            link = None
        if about and link and stat_module.S_ISLNK(link.st_mode):
            return max(about.modified, link.st_mtime, link.st_ctime)
        return about.modified if about else None

    def extras(self, path: str) -> Extras:
        try:
            real = self._outside(path)
            if real is None:
                return Extras()
            space = os.statvfs(real) if self.live and hasattr(os, "statvfs") else None
            closed = Path(real).is_dir() and not os.access(real, os.R_OK | os.X_OK)
        except (OSError, HostError):
            return Extras()
        label = attribute(real, "security.selinux").rstrip(b"\0").decode("utf-8", "replace")
        listed = grants(attribute(real, "system.posix_acl_access"))
        return Extras(listed, label, space.f_bavail * space.f_frsize if space else None, closed)

    def machine(self) -> Machine:
        if not self.live:
            return Machine()
        sizes = dict(re.findall(r"^(MemTotal|SwapTotal):\s+(\d+) kB", text_or_none(self, "/proc/meminfo") or "", re.M))
        memory, swap = (int(sizes[name]) * 1024 if name in sizes else None for name in ("MemTotal", "SwapTotal"))
        enforce = text_or_none(self, "/sys/fs/selinux/enforce")
        return Machine(
            memory=memory,
            swap=swap,
            processors=_processors(),
            enforcing=None if enforce is None else enforce.strip() == "1",
            permissive=enforce is not None and enforce.strip() == "0",
        )

    def resolve(self, path: str) -> str | None:
        try:
            if not self._prefix:
                return os.path.realpath(path, strict=True)
            followed = self._followed(path, MAX_LINKS)
            return followed if self.stat(followed) else None
        except (OSError, ValueError, HostError):
            return None

    def running(self, beginnings: Sequence[str], names: Sequence[str] = VARIABLES) -> Running:
        return running(self.root, beginnings, names)

    def answer(self, question: Question) -> bytes | None:
        if not self.live or self._prefix:
            return None
        said: bytes | None = entry("fundamentum.hosts", "own_commands").said(question)
        return said

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
        if "\0" in path or len(path) > MAX_PATH:
            return None
        if not self._prefix:
            return path
        try:
            for _ in range(MAX_LINKS):
                folder, _, name = path.rpartition("/")
                if name in ("", ".", ".."):
                    return self._prefix + self._followed(path, MAX_LINKS)
                inside = self._folder(folder)
                if inside is None:
                    return None
                absolute = f"{self._prefix}{inside}/{name}"
                try:
                    target = os.readlink(absolute) if os.path.islink(absolute) else ""  # asked first: most are none
                except OSError:
                    target = ""
                if not target:  # no link, or nothing there: opening it will tell
                    return absolute
                path = target if target.startswith("/") else f"{inside}/{target}"
        except FileNotFoundError:
            return None
        raise HostError(f"{path}: too many levels of symbolic links")

    def _folder(self, path: str) -> str | None:
        if path not in self._folders:
            try:
                self._folders[path] = self._followed(path, MAX_LINKS).rstrip("/")
            except FileNotFoundError:
                self._folders[path] = None
        return self._folders[path]


def _stat(status: os.stat_result) -> Stat:
    return Stat(
        size=status.st_size,
        modified=max(status.st_mtime, status.st_ctime),  # a package's files keep the date of its build
        is_directory=stat_module.S_ISDIR(status.st_mode),
        mode=stat_module.S_IMODE(status.st_mode),
        user=status.st_uid,
        group=status.st_gid,
    )


def _processors() -> int | None:
    """Those that this process may use, where the system tells; else those that there are."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()


def this_machine() -> DirectoryHost:
    """The machine this program runs on."""
    name = os.uname().nodename if hasattr(os, "uname") else os.environ.get("COMPUTERNAME", "")
    return DirectoryHost(Path("/"), name or "this machine", live=True)
