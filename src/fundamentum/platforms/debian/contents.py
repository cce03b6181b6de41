"""Lists of all files of all packages, as apt keeps them where that was asked for: which package brings a program.

Such a list is hundreds of megabytes long, packed or not; it is read in pieces, and only as far as programs stand in it.
"""

import re
from collections.abc import Iterable, Iterator
from contextlib import suppress
from mmap import mmap
from typing import Final

from fundamentum.hosts.base import Host, HostError, listed
from fundamentum.lazy_regex import lazy_regex
from fundamentum.untrusted.decompress import BadPacking, pieces

LISTS: Final = "/var/lib/apt/lists"
MAX_LINE: Final = 64 * 1024
MAX_READ: Final = 512 * 1024 * 1024
_NAME: Final = lazy_regex(r".+_Contents-[a-z0-9-]+(?P<packing>\.gz|\.lz4)?")
_BEHIND: Final = lazy_regex(rb"^usr/(?:games|include|lib|libexec|local|sbin|share)", re.M)
"""Lists are sorted by path: no program stands behind these."""


def bringing(host: Host, names: Iterable[str]) -> dict[str, list[str]]:
    """Command → packages.  Source: Debian's repository format, "Contents" indices."""
    wanted = [re.escape(name).encode() for name in names]
    carriers: dict[str, list[str]] = {}
    if not wanted:
        return carriers
    line = re.compile(rb"^(?:usr/)?bin/(" + b"|".join(wanted) + rb")[ \t]+(\S+)$", re.M)
    for name in listed(host, LISTS):
        match = _NAME.fullmatch(name)
        if not match:
            continue
        try:
            data = host.view(f"{LISTS}/{name}") or b""
        except HostError:
            continue
        for text in _texts(host, data, match["packing"] or ""):
            for command, packages in line.findall(text):
                brought = carriers.setdefault(command.decode(), [])
                for package in packages.decode("ascii", "replace").split(","):
                    brought += [package.rpartition("/")[2]] if package.rpartition("/")[2] not in brought else []
            if _BEHIND.search(text):
                break
    return carriers


def _texts(host: Host, data: bytes | mmap, packing: str) -> Iterator[bytes]:
    """Pieces of whole lines; a list that breaks off ends there."""
    rest = b""
    with suppress(BadPacking):
        for piece in pieces(data, packing, MAX_READ):
            host.budget.tick()
            lines, _, tail = (rest + piece).rpartition(b"\n")
            yield lines
            rest = tail[:MAX_LINE]
    yield rest
