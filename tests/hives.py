"""An empty registry hive, into which other programs may write keys."""

import struct
from functools import reduce
from operator import xor

_NONE = 0xFFFFFFFF


def empty_hive() -> bytes:
    """A header, and one block with the root key and its security descriptor."""
    descriptor = struct.pack("<BBHIIII", 1, 0, 0x8000, 0, 0, 0, 0)
    security_at = 0x20 + 96
    name = b"$root"
    key = struct.pack("<2sHQIIIIIIIIIIIIIIIHH", b"nk", 0x2C, 0, 0, _NONE, 0, 0, _NONE, _NONE, 0, _NONE, security_at,
                      _NONE, 0, 0, 0, 0, 0, len(name), 0) + name  # fmt: skip
    security = struct.pack("<2sHIIII", b"sk", 0, security_at, security_at, 1, len(descriptor)) + descriptor
    cells = _cell(key, 96) + _cell(security, 48)
    free = 0x1000 - 0x20 - len(cells)
    block = struct.pack("<4sIIQQI", b"hbin", 0, 0x1000, 0, 0, 0) + cells + struct.pack("<i", free).ljust(free, b"\0")
    head = struct.pack("<4sIIQIIIIIII", b"regf", 1, 1, 0, 1, 3, 0, 1, 0x20, 0x1000, 1).ljust(0x1FC, b"\0")
    checksum = reduce(xor, struct.unpack("<127I", head))
    return (head + struct.pack("<I", checksum)).ljust(0x1000, b"\0") + block


def _cell(content: bytes, size: int) -> bytes:
    return struct.pack("<i", -size) + content.ljust(size - 4, b"\0")
