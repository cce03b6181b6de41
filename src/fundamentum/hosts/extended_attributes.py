"""What a file system keeps beside a file's mode: access lists and labels, as bytes and read."""

import os
import struct
from typing import Literal

from fundamentum.model.surrounding_facts import Grant


def attribute(path: str, name: str) -> bytes:
    """The value of an extended attribute; empty where there is none, or the system knows none."""
    if not hasattr(os, "getxattr"):
        return b""
    try:
        return os.getxattr(path, name)
    except OSError:
        return b""


def grants(data: bytes) -> tuple[Grant, ...]:
    """The entries of an access list; none where it says no more than the mode.  Source: linux/posix_acl_xattr.h."""
    kinds: dict[int, Literal["user", "group", "owning-group", "mask"]] = {
        0x02: "user",
        0x04: "owning-group",
        0x08: "group",
        0x10: "mask",
    }
    if len(data) < 4 or struct.unpack_from("<I", data)[0] != 2:
        return ()
    entries = struct.iter_unpack("<HHI", data[4 : 4 + (len(data) - 4) // 8 * 8])
    found = tuple(
        Grant(kinds[tag], who if tag in (0x02, 0x08) else 0, bits) for tag, bits, who in entries if tag in kinds
    )
    return found if len(found) > 1 else ()
