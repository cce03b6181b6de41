"""The archive that a recording is: only what the recorder writes is taken, and no more of it than any server has."""

import io
import re
import tarfile
from typing import Final

from fundamentum.errors import InputError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.untrusted.decompress import BadPacking, pieces

MAX_ARCHIVE: Final = 256 * 1024 * 1024
"""Bytes, packed and unpacked: the programs of several PHPs for Windows have the half of that."""
MAX_MEMBERS: Final = 20_000
_MEMBER: Final = lazy_regex(
    r"(?:\./)?(content/\d{1,9}|format|hostname|stats|links|contents|unreadable|processes|modules|heads|identities|"
    r"grants|labels|space|machine|visit|asked|system|access|"
    r"answer-[a-z-]{1,40})"
)
_FORMAT: Final = b"1"


def members_of(data: bytes, where: str) -> dict[str, bytes]:
    """Name → content; a clear error for what is no recording, or not one that the recorder wrote."""
    members: dict[str, bytes] = {}
    size = 0
    try:
        with tarfile.open(fileobj=_Unpacking(data), mode="r|", ignore_zeros=False) as archive:
            for member in archive:
                archive.members = []  # type: ignore[attr-defined]  # or it would remember every one of them
                if member.isdir() and re.fullmatch(r"\.?/?|(\./)?content/?", member.name):
                    continue
                match = _MEMBER.fullmatch(member.name)
                if not match or not _plain(member) or len(members) >= MAX_MEMBERS or match[1] in members:
                    shown = "".join(c if c.isprintable() else "?" for c in member.name[:80])
                    raise InputError(where, f"holds '{shown}', which the recorder does not write; refused")
                size += member.size + 1000
                if size > MAX_ARCHIVE:
                    raise InputError(where, f"unpacks to more than {MAX_ARCHIVE >> 20} MiB: no recording; refused")
                stream = archive.extractfile(member)
                members[match[1]] = stream.read(member.size) if stream else b""
    except BadPacking as error:
        raise InputError(where, f"{error}; record the server again") from error
    except (tarfile.TarError, EOFError, OSError, ValueError, OverflowError, ArithmeticError, RecursionError) as error:
        raise InputError(where, f"is no recording: {error}") from error
    if members.get("format", b"").strip() != _FORMAT:
        raise InputError(where, "is no recording of this program, or one that broke off; record the server again")
    return members


def _plain(member: tarfile.TarInfo) -> bool:
    """Whether it is a file that holds what it says: a sparse one may say that it holds the world."""
    return member.isreg() and not member.issparse() and 0 <= member.size <= MAX_ARCHIVE


class _Unpacking(io.RawIOBase):
    """The archive's bytes, unpacked while they are read."""

    def __init__(self, data: bytes) -> None:
        self._source = pieces(data, ".gz" if data[:2] == b"\x1f\x8b" else "", 2 * MAX_ARCHIVE)
        self._rest = b""

    def read(self, size: int | None = -1) -> bytes:
        while size is not None and 0 <= len(self._rest) < size and (piece := next(self._source, b"")):
            self._rest += piece
        content, self._rest = self._rest[:size], self._rest[size:] if size is not None else b""
        return content
