"""The sites of IIS: their bindings, their applications and directories, and the pools these run in.

Source: Microsoft's reference of IIS configuration (sites, applicationPools, processModel).
"""

import posixpath
from collections.abc import Iterator
from typing import Any, Final

import msgspec

from fundamentum.hosts.base import Host, listed, text_or_none
from fundamentum.hosts.windows_directory import windows_path
from fundamentum.model.origin import Origin

HOSTS: Final = "/Windows/System32/drivers/etc/hosts"
_IDENTITIES: Final = {
    "localsystem": r"NT AUTHORITY\SYSTEM",
    "0": r"NT AUTHORITY\SYSTEM",
    "localservice": r"NT AUTHORITY\LOCAL SERVICE",
    "1": r"NT AUTHORITY\LOCAL SERVICE",
    "networkservice": r"NT AUTHORITY\NETWORK SERVICE",
    "2": r"NT AUTHORITY\NETWORK SERVICE",
}


class Pool(msgspec.Struct, frozen=True):
    """An application pool."""

    name: str
    small: bool
    """Whether its programs have 32 bits on a system that has 64."""
    identity: str
    """As whom its programs work: ``IIS AppPool\\plates``."""
    starts: bool
    origin: Origin


class Part(msgspec.Struct, frozen=True):
    """An address of a site that has a directory of its own: the site itself, an application, a virtual directory."""

    address: str
    folder: str
    pool: str


def pool_of(main: Any, path: str, name: str) -> Pool | None:
    """The pool of that name, with what it takes from the defaults of all pools; None if there is none."""
    every = main.find("system.applicationHost/applicationPools")
    own = (
        None
        if every is None
        else next((element for element in every.iterfind("add") if element.get("name") == name), None)
    )
    if own is None:
        return None
    given = {**_options(every.find("applicationPoolDefaults")), **_options(own)}
    model = {
        **_options(every.find("applicationPoolDefaults/processModel")),
        **_options(own.find("processModel")),
    }
    kind = model.get("identityType", "").lower()
    identity = model.get("userName", "") if kind in ("specificuser", "3") else _IDENTITIES.get(kind)
    return Pool(
        name,
        given.get("enable32BitAppOnWin64", "").lower() == "true",
        identity or rf"IIS AppPool\{name}",
        given.get("autoStart", "").lower() != "false",
        Origin(path, own.sourceline),
    )


def _options(element: Any) -> dict[str, str]:
    return {} if element is None else dict(element.attrib)


def parts_of(host: Host, main: Any, site: Any) -> list[Part]:
    """The site itself first, then the others by their addresses."""
    defaults = main.find("system.applicationHost/sites/applicationDefaults")
    usual = _options(defaults).get("applicationPool") or "DefaultAppPool"
    parts: dict[str, Part] = {}
    for application in site.iterfind("application"):
        pool = application.get("applicationPool") or usual
        for directory in application.iterfind("virtualDirectory"):
            path, below = application.get("path") or "/", (directory.get("path") or "/").strip("/")
            address = posixpath.join(path, below).rstrip("/") or "/"
            if folder := directory.get("physicalPath"):
                parts.setdefault(address, Part(address, windows_path(host, folder, "/"), pool))
    return [parts[address] for address in sorted(parts)]


def chain(parts: list[Part], address: str) -> list[tuple[str, str]]:
    """Every address from ``/`` down to this one, each with its directory, as applications and directories have it."""
    by_address = {part.address: part.folder for part in parts}
    pairs: list[tuple[str, str]] = []
    words = [word for word in address.split("/") if word]
    folder = ""
    for length in range(len(words) + 1):
        here = "/" + "/".join(words[:length])
        folder = by_address.get(here) or (posixpath.join(folder, words[length - 1]) if folder and length else "")
        pairs += [(here, folder)] if folder else []
    return pairs


class Binding(msgspec.Struct, frozen=True):
    """Where a site waits for requests."""

    name: str
    """The host name; empty: any."""
    address: str
    """``*:80``."""
    secure: bool


def bindings(site: Any) -> Iterator[Binding]:
    """All of them, plain HTTP first."""
    found = []
    for element in site.iterfind("bindings/binding"):
        address, _, name = (element.get("bindingInformation") or "").rpartition(":")
        if element.get("protocol") in ("http", "https"):
            found.append(Binding(name.lower(), address.lstrip(":") or "*:80", element.get("protocol") == "https"))
    yield from sorted(found, key=lambda binding: binding.secure)


def local_names(host: Host) -> dict[str, Origin]:
    """The names that the hosts file gives this machine itself.  Source: the comments in Windows' own hosts file."""
    origins: dict[str, Origin] = {}
    for number, line in enumerate((text_or_none(host, HOSTS) or "").splitlines(), 1):
        words = line.partition("#")[0].split()
        if words and (words[0] == "::1" or words[0].startswith("127.")):
            origins |= {name.lower(): Origin(HOSTS, number) for name in words[1:] if name.lower() != "localhost"}
    return origins


def system_files(host: Host, small: bool) -> tuple[str, dict[str, str]]:
    """The directory of the system's libraries for 64 or 32 bits, and the names in it by their lower case."""
    wow = "/Windows/SysWOW64"
    folder = wow if small and host.stat(wow) else "/Windows/System32"
    return folder, {name.lower(): name for name in listed(host, folder)}
