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


class Hive:
    """A hive with keys (dictionaries) and values (texts, or a kind of value with its bytes), and its cells."""

    def __init__(self, tree: "dict[str, object]", *, lists: bytes = b"lf", wide: bool = False) -> None:
        self.cells, self.lists, self.wide = b"", lists, wide
        root = self._key("$root", tree)
        block = struct.pack("<4sIIQQI", b"hbin", 0, 0x1000, 0, 0, 0) + self.cells
        head = struct.pack("<4sIIQIIIIIII", b"regf", 1, 1, 0, 1, 3, 0, 1, root, 0x1000, 1)
        self.data = head.ljust(0x1000, b"\0") + block.ljust(0x1000, b"\0")

    def _put(self, content: bytes) -> int:
        at = 0x20 + len(self.cells)
        self.cells += _cell(content, (len(content) + 11) // 8 * 8)
        return at

    def _name(self, name: str) -> tuple[bytes, int]:
        return (name.encode("utf-16-le"), 0) if self.wide else (name.encode("latin-1"), 1)

    def _key(self, name: str, tree: "dict[str, object]") -> int:
        keys = [self._key(below, content) for below, content in tree.items() if isinstance(content, dict)]
        values = [self._value(value, content) for value, content in tree.items() if not isinstance(content, dict)]
        entry = "<I4x" if self.lists in (b"lf", b"lh") else "<I"
        below = self.lists + struct.pack("<H", len(keys)) + b"".join(struct.pack(entry, key) for key in keys)
        listed = self._put(below) if keys else _NONE
        if keys and self.lists == b"ri":  # a list of lists
            one = [self._put(b"li" + struct.pack("<HI", 1, key)) for key in keys]
            listed = self._put(b"ri" + struct.pack(f"<H{len(one)}I", len(one), *one))
        of_values = self._put(struct.pack(f"<{len(values)}I", *values)) if values else _NONE
        raw, short = self._name(name)
        return self._put(
            struct.pack("<2sH16xIIIIII", b"nk", 0x20 * short, len(keys), 0, listed, _NONE, len(values), of_values)
            + bytes(0x1C)
            + struct.pack("<HH", len(raw), 0)
            + raw
        )

    def _value(self, name: str, content: object) -> int:
        kind, data = content if isinstance(content, tuple) else (1, f"{content}\0".encode("utf-16-le"))
        inline = len(data) <= 4
        raw, short = self._name(name)
        place = data.ljust(4, b"\0") if inline else struct.pack("<I", self._put(data))
        size = len(data) | (0x80000000 if inline else 0)
        return self._put(struct.pack("<2sHI4sIHH", b"vk", len(raw), size, place, kind, short, 0) + raw)
