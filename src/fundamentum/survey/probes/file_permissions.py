"""Directories and files as the users of a server see them: modes, access lists, labels, space, and whose they are."""

import posixpath
from collections.abc import Collection, Iterable
from typing import Final, Literal

from msgspec.structs import replace

from fundamentum.hosts.base import Host, HostError, text_or_none
from fundamentum.model.safe_text import is_plain
from fundamentum.model.surrounding_facts import Account, Entry, Place
from fundamentum.untrusted.numbers import whole

MAX_PLACES: Final = 2000
MAX_DEPTH: Final = 40
MAX_ENTRIES: Final = 5000
MAX_OTHERS: Final = 20
"""Entries of a directory that are looked at, and those of other users that are noted."""


def probe(host: Host, paths: Iterable[str]) -> tuple[Place, ...]:
    """These, and every directory on the way to each, links followed."""
    names = _names(host, "/etc/passwd")
    places: dict[str, Place] = {}
    for path in dict.fromkeys(paths):
        real = _resolved(host, path)
        parts = real.strip("/").split("/")
        for length in range(len(parts) if real != "/" else 0):
            above = "/" + "/".join(parts[:length])
            if above not in places and len(places) < MAX_PLACES:
                places[above] = _place(host, above, above, names)
        if path not in places or real != path:
            place = replace(_place(host, path, real, names), loose=_loose(host, path) if real != path else "")
            places[path] = (
                replace(place, others=_others(host, real, place.user)) if place.kind == "directory" else place
            )
    return tuple(places[path] for path in sorted(places))


def probe_named(host: Host, paths: Iterable[str]) -> tuple[Place, ...]:
    """These, where rights are those of names."""
    places = []
    for path in sorted(set(paths))[:MAX_PLACES]:
        real = host.resolve(path) or path
        about = host.stat(real)
        led = real if real.lower() != path.lower() else ""
        if about is None:
            places.append(Place(path, "absent", led))
            continue
        kind: Literal["directory", "file"] = "directory" if about.is_directory else "file"
        size = 0 if about.is_directory else about.size
        places.append(Place(path, kind, led, size=size, access=host.extras(real).access))
    return tuple(places)


def _others(host: Host, folder: str, user: int) -> tuple[Entry, ...]:
    """Some of what lies in a directory and belongs to another user."""
    if folder == "/":
        return ()
    try:
        entries = host.entries(folder)[:MAX_ENTRIES]
    except HostError:
        return ()
    others = [(name, about) for name, about in entries if about and about.user != user][:MAX_OTHERS]
    return tuple(Entry(name, about.user, about.group, about.mode, about.is_directory) for name, about in others)


def _loose(host: Host, path: str) -> str:
    """The first link on the way that somebody other than root may change: root owns not the directory it stands in, or
    shares it."""
    parts = path.strip("/").split("/")
    for length in range(len(parts)):
        above, here = "/" + "/".join(parts[:length]), "/" + "/".join(parts[: length + 1])
        folder, real = host.resolve(above), host.resolve(here)
        if folder is None or real is None:
            return ""
        if real == posixpath.join(folder, parts[length]):
            continue
        about = host.stat(folder)
        grants = host.extras(folder).grants
        if about is None or about.user != 0 or about.mode & 0o022 or any(grant.bits & 2 for grant in grants):
            return here
    return ""


def _resolved(host: Host, path: str) -> str:
    """Where the path leads; for one that does not exist, as far as it does."""
    missing: list[str] = []
    at = path
    for _ in range(MAX_DEPTH):
        if resolved := host.resolve(at):
            return posixpath.join(resolved, *missing) if missing else resolved
        at, name = posixpath.split(at)
        missing.insert(0, name)
        if at in ("/", ""):
            break
    return path


def _leads_nowhere(host: Host, path: str) -> bool:
    """Whether a name is there of which nothing can be found: a link to what is not there."""
    folder = host.resolve(posixpath.dirname(path))
    try:
        return folder is not None and posixpath.basename(path) in host.names(folder)
    except HostError:
        return False


def _place(host: Host, path: str, real: str, names: dict[int, str]) -> Place:
    led = real if real != path else ""
    try:
        about = host.stat(real)
        extras = host.extras(real) if about else None
    except HostError:
        return Place(path, "unreadable", led)
    if about is None:
        folder = posixpath.dirname(real)
        while folder != "/" and host.resolve(folder) is None:
            folder = posixpath.dirname(folder)
        above = host.extras(folder)
        # A directory that may not be entered looks empty: then nothing is known.
        hidden = bool(above and above.closed)
        kind: Literal["unreadable", "link", "absent"] = "unreadable" if hidden else "absent"
        if not hidden and _leads_nowhere(host, path):
            kind = "link"
        return Place(path, kind, led, free=above.free if above else None)
    return Place(
        path=path,
        kind="directory" if about.is_directory else "file",
        real=led,
        user=about.user,
        group=about.group,
        mode=about.mode,
        size=0 if about.is_directory else about.size,
        grants=extras.grants if extras else (),
        label=extras.label if extras else "",
        free=extras.free if extras else None,
        owner=names.get(about.user),
    )


def accounts(host: Host, users: Iterable[str]) -> tuple[Account, ...]:
    """The users of these names.  Source: passwd(5), group(5)."""
    wanted = {name for name in users if is_plain(name)}
    if not wanted:
        return ()
    owners: dict[str, tuple[int, int]] = {}
    homes: dict[str, str] = {}
    for line in (text_or_none(host, "/etc/passwd") or "").splitlines():
        fields = line.split(":")
        numbers = [whole(field) for field in fields[2:4]]
        if len(numbers) == 2 and fields[0] in wanted and numbers[0] is not None and numbers[1] is not None:
            owners.setdefault(fields[0], (numbers[0], numbers[1]))
            homes.setdefault(fields[0], fields[5] if len(fields) > 5 else "")
    groups: dict[str, list[int]] = {}
    titles: dict[int, str] = {}
    for line in (text_or_none(host, "/etc/group") or "").splitlines():
        fields = line.split(":")
        if len(fields) > 3 and (number := whole(fields[2])) is not None:
            if is_plain(fields[0]):
                titles.setdefault(number, fields[0])
            for member in wanted.intersection(fields[3].split(",")):
                groups.setdefault(member, []).append(number)
    return tuple(
        Account(name, user, tuple(dict.fromkeys((group, *groups.get(name, ())))), titles.get(group), homes[name])
        for name, (user, group) in sorted(owners.items())
    )


def groups(host: Host, names: Collection[str]) -> dict[str, int]:
    """The numbers of these groups."""
    return {name: number for number, name in _names(host, "/etc/group").items() if name in names} if names else {}


def _names(host: Host, path: str) -> dict[int, str]:
    names: dict[int, str] = {}
    for line in (text_or_none(host, path) or "").splitlines():
        fields = line.split(":")
        number = whole(fields[2]) if len(fields) > 2 else None
        if number is not None and is_plain(fields[0]):
            names.setdefault(number, fields[0])
    return names
