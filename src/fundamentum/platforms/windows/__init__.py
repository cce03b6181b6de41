"""Windows: PHP comes from no package, and a server is known by the way in which it is read."""

from collections.abc import Sequence
from typing import Final

from fundamentum.hosts.base import Host
from fundamentum.model.php import Branch
from fundamentum.model.windows_words import shown_path, windows_line
from fundamentum.platforms.base import Platform
from fundamentum.platforms.windows import builds

POOL: Final = "application pool "
"""How the service of a group of FastCGI programs is called, with the name of the group behind it."""


class Windows(Platform):
    """Windows, on which PHP comes from no package."""

    title = "Windows"
    os_name = "Windows"
    system_folder = "/Windows"
    rights_by_name = True
    script_language = "powershell"
    no_packages = "package database: Windows has none that PHP comes from"

    def command_line(self, words: Sequence[str]) -> str:
        return windows_line(words)

    def copying(self, path: str, to: str) -> list[str]:
        return ["copy", shown_path(path), shown_path(to)]

    def removing(self, path: str) -> list[str]:
        return ["del", shown_path(path)]

    def service(self, verb: str, service: str) -> list[str]:
        """In PowerShell's words; of a web server's programs the group they belong to alone, as far as that will do."""
        if service.startswith(POOL):
            return ["Restart-WebAppPool" if verb != "start" else "Start-WebAppPool", service.removeprefix(POOL)]
        if verb == "enable":
            return ["Set-Service", service, "-StartupType", "Automatic"]
        if service == "W3SVC":
            return ["iisreset"]
        return [f"{'Start' if verb == 'start' else 'Restart'}-Service", service]

    def extension_from(self, name: str, php: Branch, version: str) -> str:
        return builds.extension_from(name, php, version)

    def php_from(self, branch: str, thread_safe: bool, processor: str) -> str:
        return builds.php_from(branch, thread_safe, processor)

    def grant(self, path: str, who: str, letters: str) -> list[str]:
        """Source: Microsoft's documentation of icacls: to the directory, what is in it, and what will be."""
        right = {"rwx": "M", "r-x": "RX"}[letters]
        return ["icacls", shown_path(path), "/grant", f"{who}:(OI)(CI){right}"]

    def revoke(self, path: str, who: str) -> list[str]:
        return ["icacls", shown_path(path), "/remove:g", who]

    def asking_rights(self, path: str) -> list[str]:
        return ["icacls", shown_path(path)]

    def making_directory(self, path: str) -> list[str]:
        return ["mkdir", shown_path(path)]

    def is_certain(self, host: Host) -> bool:
        return host.windows


PLATFORM = Windows()
