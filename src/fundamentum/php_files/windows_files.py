"""What Windows' program files say in their headers, at a glance: processor, linker, version.

Sources: Microsoft's "PE Format" and ``VS_FIXEDFILEINFO``.
"""

import struct
from typing import Final

MACHINES: Final = {0x8664: "x86-64", 0x14C: "x86", 0xAA64: "ARM64"}
_FIXED_FILE_INFO: Final = (0xFEEF04BD).to_bytes(4, "little")


def processor(data: bytes) -> str:
    """The processor that a program is for; empty where this is no program, or for another one."""
    at = _header(data)
    return MACHINES.get(int.from_bytes(data[at + 4 : at + 6], "little"), "") if at else ""


def linker(data: bytes) -> tuple[int, int]:
    """The version of the linker that made it, which is that of the compiler's runtime; zeros where it is not told."""
    at = _header(data)
    numbers = data[at + 26 : at + 28] if at else b""
    return (numbers[0], numbers[1]) if len(numbers) == 2 else (0, 0)


def file_version(data: bytes) -> tuple[int, int]:
    """The first two numbers of a file's version; zeros where it has none."""
    at = data.find(_FIXED_FILE_INFO)
    if at < 0 or len(data) < at + 16:
        return 0, 0
    minor, major = struct.unpack_from("<HH", data, at + 8)
    return major, minor


def _header(data: bytes) -> int:
    """Where the PE header begins; 0 where there is none."""
    at = int.from_bytes(data[0x3C:0x40], "little")
    return at if data[:2] == b"MZ" and 0 < at < len(data) - 24 and data[at : at + 4] == b"PE\0\0" else 0
