"""What was read of package indexes, remembered until one of them changes: they are most of what a survey reads."""

import hashlib
import os
from collections.abc import Iterable
from typing import Final

import msgspec

from fundamentum import __version__
from fundamentum.hosts.base import Host
from fundamentum.model.packages import Offer, Repository
from fundamentum.model.remark import Remark
from fundamentum.untrusted.kept_files import kept, recalled

SUFFIX: Final = ".offers"
FORMAT: Final = 6
"""It rises when offers are read in another way, or hold other things."""


class KeptOffers(msgspec.Struct):
    """What the indexes of a server say."""

    offers: tuple[Offer, ...]
    repositories: list[Repository]
    remarks: list[Remark]


def key_of(host: Host, paths: Iterable[str], *about: object) -> str:
    """By what the same indexes, read in the same way, are known; empty where they cannot be: a recording's."""
    root = getattr(host, "root", None)
    if root is None:
        return ""
    files = []
    for path in paths:
        try:
            status = os.lstat(f"{str(root).rstrip('/')}{path}")
        except OSError:
            return ""
        files.append([path, status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino])
    told = [FORMAT, __version__, str(root), files, *(repr(fact) for fact in about)]
    return hashlib.sha256(msgspec.json.encode(told)).hexdigest()[:40] + SUFFIX


class _Kept(msgspec.Struct):
    """How it is written: offers as bare rows, which are read in a third of the time.

    They are not held to their types again: they were looked at when they were read, and the file is this user's own.
    """

    offers: list[list[str | int]]
    repositories: list[Repository]


def recall(key: str) -> KeptOffers | None:
    """What was read, if it was kept."""
    content = recalled(key) if key else None
    try:
        known = msgspec.json.decode(content, type=_Kept) if content else None
        return KeptOffers(tuple(Offer(*row) for row in known.offers), known.repositories, []) if known else None  # type: ignore[arg-type]
    except (msgspec.MsgspecError, TypeError):
        return None


def remember(key: str, read: KeptOffers) -> None:
    """Keep it, unless something was wrong with the indexes: that is to be said again."""
    if key and not read.remarks:
        rows = [list(msgspec.structs.astuple(offer)) for offer in read.offers]
        kept(key, msgspec.json.encode(_Kept(rows, read.repositories)))
