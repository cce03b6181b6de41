"""Compressed files, unpacked within bounds: what comes before an error is kept, and nothing grows without end."""

import bz2
import lzma
import zlib
from collections.abc import Callable
from typing import Any, Final, Protocol, cast

MAX_UNPACKED: Final = 512 * 1024 * 1024
_STEP: Final = 1024 * 1024


class _Decompressor(Protocol):
    def decompress(self, data: bytes, max_length: int = -1) -> bytes: ...


def _lz4() -> object:
    import lz4.frame  # noqa: PLC0415 — only where an index is packed this way

    return lz4.frame.LZ4FrameDecompressor()


def _makers() -> dict[str, Callable[[], Any]]:
    return {
        ".gz": lambda: zlib.decompressobj(31),
        ".xz": lzma.LZMADecompressor,
        ".bz2": bz2.BZ2Decompressor,
        ".lz4": _lz4,
    }


def unpack(packed: bytes, packing: str, limit: int = MAX_UNPACKED) -> tuple[bytes, str | None]:
    """Decompress ``.gz``, ``.xz``, ``.bz2``, ``.lz4`` or ``.zst``; the bytes, and what is wrong with the rest."""
    if packing == ".zst":
        return _unpack_zstd(packed, limit)
    machine = cast(_Decompressor, _makers()[packing]())
    out = bytearray()
    try:
        for at in range(0, len(packed), _STEP):
            out += machine.decompress(packed[at : at + _STEP], limit - len(out)) if len(out) < limit else b""
    except (OSError, EOFError, RuntimeError, zlib.error, lzma.LZMAError, ValueError) as error:
        return bytes(out), f"cannot be decompressed beyond byte {len(out)} ({error})"
    if len(out) >= limit:
        return bytes(out), f"is larger than {limit} bytes"
    if not getattr(machine, "eof", True):
        return bytes(out), "breaks off before its end"
    return bytes(out), None


def _unpack_zstd(packed: bytes, limit: int) -> tuple[bytes, str | None]:
    import io  # noqa: PLC0415

    import zstandard  # noqa: PLC0415 — only where metadata is packed this way

    out = bytearray()
    try:
        with zstandard.ZstdDecompressor(max_window_size=2**27).stream_reader(io.BytesIO(packed)) as stream:
            while len(out) < limit and (part := stream.read(_STEP)):
                out += part
    except (zstandard.ZstdError, MemoryError) as error:
        return bytes(out), f"cannot be decompressed beyond byte {len(out)} ({error})"
    if len(out) >= limit:
        return bytes(out[:limit]), f"is larger than {limit} bytes"
    return bytes(out), None
