"""Programs that applications run: where they are, and which package brings each."""

import io
import posixpath
import re
from collections.abc import Sequence
from typing import Final

from fundamentum.catalog.suppliers import suppliers
from fundamentum.hosts.base import Host, HostError, listed, text_or_none
from fundamentum.model.packages import Offer, Packages
from fundamentum.model.surroundings import Command
from fundamentum.platforms.debian import control
from fundamentum.platforms.debian.contents import bringing
from fundamentum.platforms.debian.dpkg import INFO
from fundamentum.untrusted.decompress import unpack

FOLDERS: Final = ("/usr/local/bin", "/usr/bin", "/bin", "/usr/local/sbin", "/usr/sbin", "/sbin")
"""Where a program is looked for.  Source: what PHP's own process manager and a shell use where no PATH is set."""
LISTS: Final = "/var/lib/apt/lists"
MAX_COMMANDS: Final = 64 * 1024 * 1024
"""Bytes of one index of commands."""
_INDEX: Final = re.compile(r".+_cnf_Commands-[a-z0-9]+(?P<packing>\.gz|\.xz|\.lz4)?")


def probe(host: Host, names: Sequence[str], packages: Packages) -> tuple[Command, ...]:
    """Each of these programs."""
    if not names:
        return ()
    offered = {offer.name: offer for offer in packages.offers or () if offer.priority >= 0 and not offer.shut_out}
    paths = {name: _path(host, name) for name in names}
    real = {name: host.resolve(path) or path for name, path in paths.items() if path}
    owners = _owners(host, set(real.values())) if packages.system.family == "debian" else packages.owners
    found = []
    for name in names:
        named = [one.name for one in offered.values() if f"/{name}" in _files(one)]
        likely = [*packages.bringing.get(name, ()), *named, *suppliers().of_command(name)]
        suiting = tuple(one for one in dict.fromkeys(likely) if one in offered)
        owner = owners.get(real.get(name, "")) or owners.get(paths[name] or "")
        found.append(Command(name, paths[name], owner, suiting))
    return tuple(found)


def possible(host: Host, name: str) -> list[str]:
    """The paths under which a program may be known to the package database."""
    path = _path(host, name)
    if path is None:
        return []
    paths = [path, host.resolve(path) or path]
    return list(dict.fromkeys(alias for one in paths for alias in (one, one.removeprefix("/usr"))))


def _files(offer: Offer) -> set[str]:
    return {
        "/" + posixpath.basename(part) for part in offer.provides.split(", ") if part.startswith(("/usr/", "/bin/"))
    }


def _path(host: Host, name: str) -> str | None:
    """Where a program is that is called by its name; None if it is nowhere."""
    return next((path for folder in FOLDERS if _is_program(host, path := f"{folder}/{name}")), None)


def _is_program(host: Host, path: str) -> bool:
    try:
        about = host.stat(path)
    except HostError:
        return False
    return about is not None and not about.is_directory and bool(about.mode & 0o111)


def _owners(host: Host, paths: set[str]) -> dict[str, str]:
    """File → package, from dpkg's lists: those of the likely packages first, then all of them."""
    found: dict[str, str] = {}
    if not paths:
        return found
    # Since the directories below / and /usr are one, a list may name either.
    wanted = {alias: path for path in paths for alias in (path, path.removeprefix("/usr"), f"/usr{path}")}
    names = [name for name in listed(host, INFO) if name.endswith(".list")]
    likely = {posixpath.basename(path) for path in paths}
    likely |= {package for path in paths for package in suppliers().of_command(posixpath.basename(path))}
    names.sort(key=lambda name: name.removesuffix(".list").partition(":")[0] not in likely)
    for name in names:
        if len(found) == len(paths):
            break
        for line in (text_or_none(host, f"{INFO}/{name}") or "").splitlines():
            if line in wanted:
                found.setdefault(wanted[line], name.removesuffix(".list").partition(":")[0])
    return found


def indexed_commands(host: Host, names: Sequence[str]) -> dict[str, list[str]]:
    """Command → packages, from the indexes of commands or of all files, where the server keeps such.

    The latter are long, and asked only for what the catalogue does not know.
    """
    wanted = set(names)
    found: dict[str, list[str]] = {}
    for name in listed(host, LISTS):
        match = _INDEX.fullmatch(name)
        if not match:
            continue
        try:
            data = host.read(f"{LISTS}/{name}", MAX_COMMANDS) or b""
        except HostError:
            continue
        if match["packing"]:
            data, _ = unpack(data, match["packing"], MAX_COMMANDS)
        package = ""
        for text in io.BytesIO(data):
            line = text.decode("utf-8", "replace").rstrip("\r\n")
            key, _, value = line.partition(": ")
            if key == "name":
                package = value
            elif key == "commands" and control.PACKAGE_NAME.fullmatch(package):
                for command in wanted.intersection(value.replace(" ", "").split(",")):
                    found.setdefault(command, []).append(package)
    left = [name for name in names if name not in found and name not in suppliers().commands]
    return {**bringing(host, left), **found}
