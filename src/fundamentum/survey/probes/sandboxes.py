"""What systemd keeps PHP's services and the web servers from, as their units say.

Source: systemd.exec(5), and the tables of ``ProtectSystem=`` and ``ProtectHome=`` in systemd's ``namespace.c``: what is
hidden stays hidden below; homes are left to ``ProtectHome=``, also by ``ProtectSystem=strict``.
"""

import shlex
from collections.abc import Iterable, Iterator, Mapping
from typing import Final

from fundamentum.hosts.base import Host
from fundamentum.model.origin import Origin
from fundamentum.model.sandbox import Access, Fence, Sandbox
from fundamentum.survey.probes.start_options import Unit, managed_by_systemd, unit_of

MAX_FENCES: Final = 200
_HOMES: Final = ("/home", "/root", "/run/user")
_SYSTEM: Final[Mapping[str, tuple[str, ...]]] = {
    "yes": ("/usr", "/boot", "/efi"),
    "full": ("/usr", "/boot", "/efi", "/etc"),
    "strict": ("/",),
}
_NEVER_PROTECTED: Final = ("/dev", "/proc", "/sys", *_HOMES)
_TEMPORARY: Final = ("/tmp", "/var/tmp")
_LISTED: Final[Mapping[str, Access]] = {
    "ReadWritePaths": "writable",
    "ReadOnlyPaths": "read-only",
    "InaccessiblePaths": "hidden",
    "ReadWriteDirectories": "writable",
    "ReadOnlyDirectories": "read-only",
    "InaccessibleDirectories": "hidden",
}
"""Lists of paths; the last three are older names."""
_OWN: Final = {
    "StateDirectory": "/var/lib",
    "CacheDirectory": "/var/cache",
    "LogsDirectory": "/var/log",
    "RuntimeDirectory": "/run",
}
"""Directories that are made for the service, and are writable."""
_REPLACED: Final = (
    "RootDirectory",
    "RootImage",
    "TemporaryFileSystem",
    "BindPaths",
    "BindReadOnlyPaths",
    "MountImages",
)
_TRUE: Final = frozenset({"yes", "true", "on", "1"})
KEYS: Final = (*_LISTED, *_OWN, *_REPLACED, "ProtectSystem", "ProtectHome", "PrivateTmp", "DynamicUser")
"""The settings that count, as a recording has them."""


def probe(host: Host, services: Iterable[str]) -> tuple[Sandbox, ...]:
    """The services that are kept from something; none where systemd does not start them."""
    if not managed_by_systemd(host):
        return ()
    sandboxes = (_sandbox(service, unit_of(host, service)) for service in dict.fromkeys(services))
    return tuple(sandbox for sandbox in sandboxes if sandbox.fences or sandbox.unsure)


def _sandbox(service: str, unit: Unit) -> Sandbox:
    unsure = unit.unread
    fences: list[Fence] = []
    for fence in _fences(unit):
        if "%" in fence.path or not fence.path.startswith("/"):
            unsure = unsure or fence.origin
        else:
            fences.append(fence)
    for key in _REPLACED:
        unsure = unsure or next((line.origin for line in unit.lines(key)), None)
    return Sandbox(service, tuple(fences[:MAX_FENCES]), unsure)


def _fences(unit: Unit) -> Iterator[Fence]:
    dynamic = _last(unit, "DynamicUser")
    every = dynamic[1] if dynamic and dynamic[0] in _TRUE else None
    system = _last(unit, "ProtectSystem") or (("strict", every) if every else None)
    if system:
        protected = _SYSTEM.get("yes" if system[0] in _TRUE else system[0], ())
        yield from (Fence(path, "read-only", system[1]) for path in protected)
        if protected == ("/",):
            yield from (Fence(path, "writable", system[1]) for path in _NEVER_PROTECTED)
    home = _last(unit, "ProtectHome") or (("read-only", every) if every else None)
    if home and (home[0] in _TRUE or home[0] in ("read-only", "tmpfs")):
        yield from (Fence(path, "read-only" if home[0] == "read-only" else "hidden", home[1]) for path in _HOMES)
    temporary = _last(unit, "PrivateTmp") or (("yes", every) if every else None)
    if temporary and (temporary[0] in _TRUE or temporary[0] == "disconnected"):
        yield from (Fence(path, "its own", temporary[1]) for path in _TEMPORARY)
    for key, access in _LISTED.items():
        for line in unit.lines(key):
            yield from (Fence(_plain(word), access, line.origin) for word in _words(line.value))
    for key, above in _OWN.items():
        for line in unit.lines(key):
            named = (word.partition(":")[0] for word in _words(line.value))
            yield from (Fence(f"{above}/{name}", "writable", line.origin) for name in named)


def _last(unit: Unit, key: str) -> tuple[str, Origin] | None:
    lines = unit.lines(key)
    return (lines[-1].value.strip().lower(), lines[-1].origin) if lines else None


def _words(text: str) -> list[str]:
    try:
        return shlex.split(text)
    except ValueError:
        return ["%"]  # what it is meant to be is not known


def _plain(word: str) -> str:
    """A path without the marks for one that may be missing, or counts from the root of the service."""
    path = word.lstrip("-+")
    return path.rstrip("/") or path
