"""A directory of a Windows machine, read from another system."""

import itertools
import os
import posixpath
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Final

from fundamentum.hosts.base import MAX_NAMES, Host, HostError, listed
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.lazy_regex import lazy_regex

MAX_DEPTH: Final = 5


MAX_FOLDERS: Final = 5000


CORE: Final = lazy_regex(r"php\d(ts)?\.dll", re.I)


_SKIPPED: Final = frozenset({"windows", "$recycle.bin", "system volume information", "winsxs", "users", "node_modules"})


def php_folders(host: Host) -> list[tuple[str, list[str]]]:
    """The directories that hold a PHP, with the names in each."""
    return [(folder, names) for folder, names in folders(host) if any(CORE.fullmatch(name) for name in names)]


def folders(host: Host) -> Iterator[tuple[str, list[str]]]:
    """The directories of a drive, as deep as programs are put, Windows' own and the users' left out."""
    todo = [("/", 0)]
    seen = 0
    while todo and seen < MAX_FOLDERS:
        folder, depth = todo.pop()
        names = listed(host, folder)
        seen += 1
        yield folder, names
        if depth < MAX_DEPTH and not any(CORE.fullmatch(name) for name in names):
            below = [name for name in names if "." not in name[-4:] and name.lower() not in _SKIPPED]
            paths = [posixpath.join(folder, name) for name in below]
            todo += [(path, depth + 1) for path in paths if (about := host.stat(path)) and about.is_directory]


_VARIABLES: Final = {
    "systemdrive": "C:",
    "systemroot": r"C:\Windows",
    "windir": r"C:\Windows",
    "programfiles": r"C:\Program Files",
    "programfiles(x86)": r"C:\Program Files (x86)",
    "programdata": r"C:\ProgramData",
}


def windows_path(host: Host, path: str, home: str) -> str:
    """A Windows path as a place in the tree that is looked at: a whole drive, or a directory of it.

    A relative path starts at the directory of the program (``LoadLibrary`` looks there).  Of variables those are put
    in that every machine has, with the values that it has them with as it is installed; others stay as they are.
    """
    path = re.sub(r"%([^%]+)%", lambda match: _VARIABLES.get(match[1].lower(), match[0]), path)
    parts = [part for part in re.sub(r"^[A-Za-z]:", "", path.replace("\\", "/")).split("/") if part not in ("", ".")]
    if not re.match(r"[A-Za-z]:|[\\/]", path):
        return posixpath.normpath(posixpath.join(home, *parts))
    for skipped in range(len(parts)):
        inside = "/" + "/".join(parts[skipped:])
        if host.stat(inside):
            return host.resolve(inside) or inside
    return "/" + "/".join(parts)


class WindowsHost(DirectoryHost):
    """A directory of a Windows machine: a whole drive, or the part of it that holds PHP.  Case does not matter."""

    windows = True

    def __init__(self, root: Path, name: str) -> None:
        super().__init__(root, name)
        self._spelled: dict[str, dict[str, str]] = {}

    def holds_php(self) -> bool:
        """Whether there is a PHP in it, or what a whole drive has."""
        names = {name.lower() for name in listed(self, "/")}
        return bool({"php.exe", "php-cgi.exe", "inetpub", "program files"} & names) or bool(php_folders(self))

    def resolve(self, path: str) -> str | None:
        try:
            return super().resolve(self._as_spelled(path))
        except HostError:
            return None

    def _outside(self, path: str) -> str | None:
        return super()._outside(self._as_spelled(path))

    def _as_spelled(self, path: str) -> str:
        """The path with every name as it stands on the disk."""
        at = ""
        for part in path.strip("/").split("/"):
            if at not in self._spelled:
                real = super()._outside(at or "/")
                try:
                    with os.scandir(real or "/nothing") as entries:
                        names = [entry.name for entry in itertools.islice(entries, MAX_NAMES)]
                except OSError:
                    names = []
                self.budget.entry(len(names))
                self._spelled[at] = {name.lower(): name for name in names}
            at = f"{at}/{self._spelled[at].get(part.lower(), part)}"
        return at
