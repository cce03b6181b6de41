"""Lists of all files of all packages, as apt keeps them where that was asked for: which package brings a program.

Such a list is hundreds of megabytes long, packed or not; it is read in pieces, and only as far as programs stand in it.
"""

import re
import zlib
from collections.abc import Iterable, Iterator
from mmap import mmap
from typing import Final

from fundamentum.server.hosts import Host, HostError, listed

LISTS: Final = "/var/lib/apt/lists"
PIECE: Final = 1024 * 1024
MAX_READ: Final = 512 * 1024 * 1024
_NAME: Final = re.compile(r".+_Contents-[a-z0-9-]+(?P<packing>\.gz|\.lz4)?")
_BEHIND: Final = re.compile(rb"^usr/(?:games|include|lib|libexec|local|sbin|share)", re.M)
"""Lists are sorted by path: no program stands behind these."""


def bringing(host: Host, names: Iterable[str]) -> dict[str, list[str]]:
    """Command → packages.  Source: Debian's repository format, "Contents" indices."""
    wanted = [re.escape(name).encode() for name in names]
    found: dict[str, list[str]] = {}
    if not wanted:
        return found
    line = re.compile(rb"^(?:usr/)?bin/(" + b"|".join(wanted) + rb")[ \t]+(\S+)$", re.M)
    for name in listed(host, LISTS):
        match = _NAME.fullmatch(name)
        if not match:
            continue
        try:
            data = host.view(f"{LISTS}/{name}") or b""
        except HostError:
            continue
        for text in _texts(data, match["packing"] or ""):
            for command, packages in line.findall(text):
                brought = found.setdefault(command.decode(), [])
                for package in packages.decode("ascii", "replace").split(","):
                    brought += [package.rpartition("/")[2]] if package.rpartition("/")[2] not in brought else []
            if _BEHIND.search(text):
                break
    return found


def _texts(data: bytes | mmap, packing: str) -> Iterator[bytes]:
    """Pieces of whole lines; a list that breaks off ends there."""
    rest = b""
    read = 0
    for piece in _unpacked(data, packing):
        whole, _, tail = (rest + piece).rpartition(b"\n")
        yield whole
        rest = tail[:PIECE]
        read += len(piece)
        if read > MAX_READ:
            return
    yield rest


def _unpacked(data: bytes | mmap, packing: str) -> Iterator[bytes]:
    pieces = (data[at : at + PIECE] for at in range(0, len(data), PIECE))
    if not packing:
        yield from pieces
    elif packing == ".gz":
        unpacker = zlib.decompressobj(31)
        try:
            for piece in pieces:
                while piece:
                    yield unpacker.decompress(piece, 8 * PIECE)
                    piece = unpacker.unconsumed_tail
        except zlib.error:
            return
    else:
        import lz4.frame  # noqa: PLC0415 — only where a list is packed so

        frame = lz4.frame.LZ4FrameDecompressor()
        try:
            for piece in pieces:
                yield frame.decompress(piece, 8 * PIECE)
                while not frame.needs_input and not frame.eof:
                    yield frame.decompress(b"", 8 * PIECE)
        except (RuntimeError, EOFError):
            return
