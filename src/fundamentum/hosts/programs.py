"""Programs on a server that are called by their name: where each is."""

from typing import Final

from fundamentum.hosts.base import Host, HostError

FOLDERS: Final = ("/usr/local/bin", "/usr/bin", "/bin", "/usr/local/sbin", "/usr/sbin", "/sbin")
"""Where a program is looked for.  Source: what PHP's own process manager and a shell use where no PATH is set."""


def possible(host: Host, name: str) -> list[str]:
    """The paths under which a program may be known to the package database."""
    path = path_of(host, name)
    if path is None:
        return []
    paths = [path, host.resolve(path) or path]
    return list(dict.fromkeys(alias for path in paths for alias in (path, path.removeprefix("/usr"))))


def path_of(host: Host, name: str) -> str | None:
    """Where a program is that is called by its name; None if it is nowhere."""
    return next((path for folder in FOLDERS if _is_program(host, path := f"{folder}/{name}")), None)


def _is_program(host: Host, path: str) -> bool:
    try:
        about = host.stat(path)
    except HostError:
        return False
    return about is not None and not about.is_directory and bool(about.mode & 0o111)
