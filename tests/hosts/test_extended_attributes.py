"""Access lists as the kernel keeps them."""

import struct

import pytest

from fundamentum.hosts.extended_attributes import grants
from fundamentum.model.surrounding_facts import Grant

OWNER, OTHERS = (0x01, 7, 0xFFFFFFFF), (0x20, 5, 0xFFFFFFFF)


def packed(*entries: tuple[int, int, int], version: int = 2) -> bytes:
    return struct.pack("<I", version) + b"".join(struct.pack("<HHI", *entry) for entry in entries)


@pytest.mark.parametrize(
    ("data", "read"),
    [
        (b"", ()),
        (b"\2\0", ()),
        (packed(OWNER, (0x04, 5, 0xFFFFFFFF), OTHERS), ()),
        (packed(OWNER, (0x02, 7, 33), (0x04, 5, 0), (0x10, 7, 0), OTHERS), (Grant("user", 33, 7), Grant("owning-group", 0, 5), Grant("mask", 0, 7))),
        (packed((0x04, 5, 9), (0x08, 6, 50), (0x10, 6, 9)), (Grant("owning-group", 0, 5), Grant("group", 50, 6), Grant("mask", 0, 6))),
        (packed((0x02, 7, 33), (0x10, 7, 0), version=1), ()),
        (packed((0x02, 7, 33), (0x10, 7, 0))[:-3], ()),
    ],
)  # fmt: skip
def test_entries_beside_the_mode(data: bytes, read: tuple[Grant, ...]) -> None:
    assert grants(data) == read
