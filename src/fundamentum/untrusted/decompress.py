"""Compressed files, unpacked piece by piece and within bounds: what comes before an error is kept."""

import bz2
import io
import lzma
import zlib
from collections.abc import Iterator
from mmap import mmap
from typing import Any, Final

MAX_UNPACKED: Final = 128 * 1024 * 1024
"""Bytes that are unpacked into memory: more than twice a full package index."""
MAX_STREAMED: Final = 1024 * 1024 * 1024
"""Bytes that are unpacked piece by piece."""
MAX_MEMORY: Final = 96 * 1024 * 1024
"""What a decompressor may need for itself.  Source: xz(1), the most that its presets ask for is 65 MiB."""
_STEP: Final = 256 * 1024
_PIECE: Final = 1024 * 1024
_ERRORS: Final = (OSError, EOFError, RuntimeError, zlib.error, lzma.LZMAError, ValueError, MemoryError)


class BadPacking(Exception):
    """The rest cannot be unpacked; the message says why."""


def _machine(packing: str) -> Any:
    match packing:
        case ".gz":
            return zlib.decompressobj(31)
        case ".xz":
            return lzma.LZMADecompressor(memlimit=MAX_MEMORY)
        case ".bz2":
            return bz2.BZ2Decompressor()
        case _:
            try:
                import lz4.frame  # noqa: PLC0415 — only where an index is packed this way
            except ImportError:  # it is not built for every system
                raise BadPacking("is packed with lz4, which needs the Python package lz4 beside this program") from None
            return lz4.frame.LZ4FrameDecompressor()


def pieces(packed: bytes | mmap, packing: str, limit: int = MAX_STREAMED) -> Iterator[bytes]:
    """The content of ``.gz``, ``.xz``, ``.bz2``, ``.lz4``, ``.zst`` or unpacked (empty) data, about a MiB at a time.

    Raises :class:`BadPacking` after the last piece that can be had.
    """
    done = 0
    source = _zstd(packed) if packing == ".zst" else _steps(packed, packing)
    while True:
        try:
            piece = next(source, None)
        except BadPacking:
            raise
        except _ERRORS as error:
            raise BadPacking(f"cannot be decompressed beyond byte {done} ({str(error)[:100]})") from error
        if piece is None:
            return
        done += len(piece)
        if done > limit:
            yield piece[: len(piece) - (done - limit)]
            raise BadPacking(f"is larger than {limit >> 20} MiB")
        yield piece


def _steps(packed: bytes | mmap, packing: str) -> Iterator[bytes]:
    if not packing:
        yield from (packed[at : at + _PIECE] for at in range(0, len(packed), _PIECE))
        return
    machine = _machine(packing)
    for at in range(0, len(packed), _STEP):
        data = packed[at : at + _STEP]
        while True:
            piece = machine.decompress(data, _PIECE)
            if piece:
                yield piece
            if machine.eof:
                return
            # zlib hands back what it has not looked at yet; the others keep it.
            data = getattr(machine, "unconsumed_tail", b"")
            if not data and (getattr(machine, "needs_input", True) or not piece):
                break
    raise BadPacking("breaks off before its end")


def _zstd(packed: bytes | mmap) -> Iterator[bytes]:
    import zstandard  # noqa: PLC0415 — only where metadata is packed this way

    try:
        machine = zstandard.ZstdDecompressor(max_window_size=2**26)
        with machine.stream_reader(io.BytesIO(packed[:])) as stream:
            while piece := stream.read(_PIECE):
                yield piece
    except zstandard.ZstdError as error:
        raise ValueError(str(error)) from error


def unpack(packed: bytes | mmap, packing: str, limit: int = MAX_UNPACKED) -> tuple[bytes, str | None]:
    """The whole content as far as it can be had, and what is wrong with the rest."""
    out = bytearray()
    try:
        for piece in pieces(packed, packing, limit):
            out += piece
    except BadPacking as error:
        return bytes(out), str(error)
    return bytes(out), None
