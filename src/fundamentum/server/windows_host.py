"""A directory of a Windows machine, read from another system."""

import itertools
import os
from pathlib import Path

from fundamentum.server.directory_host import DirectoryHost
from fundamentum.server.hosts import MAX_NAMES, HostError, listed
from fundamentum.server.layouts.windows import php_folders


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
