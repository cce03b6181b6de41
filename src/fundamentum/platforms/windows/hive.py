"""A part of the registry as a file of its own (a hive), opened without Windows: keys, and the texts in them.

Source: the open description of the format (``regf``) by those who read it elsewhere: a header of 4,096 bytes, then
cells, each with its size in front; a key (``nk``) names lists of keys below it and of values (``vk``).
"""

import itertools
import mmap
import struct
from collections.abc import Iterator, Sequence
from typing import Final

MAX_BELOW: Final = 1000
"""Keys that are gone through below one."""
MAX_LISTED: Final = 50_000
"""Keys or values in one list."""
MAX_ENTRIES: Final = 200_000
"""Entries of lists that are followed in one file."""
MAX_TEXT: Final = 4096
_BINS: Final = 0x1000
_SHORT_NAME: Final = 0x20
_INLINE: Final = 0x80000000


class BadHive(ValueError):
    """Not a hive, or a damaged one."""


class Hive:
    """One file."""

    def __init__(self, data: "bytes | mmap.mmap") -> None:
        if len(data) < _BINS or data[:4] != b"regf":
            raise BadHive("is no registry hive")
        self.data = data
        self.root = self._number(0x24)
        self._left = MAX_ENTRIES

    def texts(self, path: Sequence[str]) -> Iterator[tuple[str, str, str]]:
        """Key (in lower case, below the root), name and text of each value of a key and of those below it."""
        at = self.root
        for part in path:
            same = [key for key in self._below(at) if self._name(key).lower() == part.lower()]
            if not same:
                return
            at = same[0]
        todo = [("\\".join(path).lower(), at)]
        for name, key in itertools.islice(todo, MAX_BELOW):
            yield from ((name, value, text) for value, text in self._values(key))
            todo += [(f"{name}\\{self._name(below).lower()}", below) for below in self._below(key)]
            if len(todo) > MAX_BELOW:
                raise BadHive("has no end of keys")

    def _cell(self, offset: int, sign: bytes) -> int:
        """Where the content of a cell begins, which has to begin with that."""
        at = _BINS + offset + 4
        if not _BINS <= at < len(self.data) - 4 or self.data[at : at + len(sign)] != sign:
            raise BadHive("is damaged: a cell is not what it should be")
        return at

    def _number(self, at: int, form: str = "<I") -> int:
        try:
            return int(struct.unpack_from(form, self.data, at)[0])
        except struct.error as error:
            raise BadHive("is damaged: it ends too early") from error

    def _name(self, key: int) -> str:
        at = self._cell(key, b"nk")
        raw = self.data[at + 0x4C : at + 0x4C + self._number(at + 0x48, "<H")]
        return raw.decode("latin-1" if self._number(at + 2, "<H") & _SHORT_NAME else "utf-16-le", "replace")

    def _below(self, key: int) -> Iterator[int]:
        at = self._cell(key, b"nk")
        if self._number(at + 0x14):
            yield from itertools.islice(self._listed(self._number(at + 0x1C), 0), MAX_LISTED)

    def _listed(self, offset: int, depth: int) -> Iterator[int]:
        at = self._cell(offset, b"")
        kind, count = self.data[at : at + 2], self._number(at + 2, "<H")
        width = {b"lf": 8, b"lh": 8, b"li": 4, b"ri": 4}.get(kind)
        if width is None or depth > 2:
            raise BadHive("is damaged: a list of keys is none")
        for number in range(count):
            self._left -= 1
            if self._left < 0:
                raise BadHive("has no end of keys")
            below = self._number(at + 4 + width * number)
            if kind == b"ri":
                yield from self._listed(below, depth + 1)
            else:
                yield below

    def _values(self, key: int) -> Iterator[tuple[str, str]]:
        at = self._cell(key, b"nk")
        count = min(self._number(at + 0x24), MAX_LISTED)
        values = self._cell(self._number(at + 0x28), b"") if count else 0
        for number in range(count):
            value = self._cell(self._number(values + 4 * number), b"vk")
            length, kind = self._number(value + 4), self._number(value + 12)
            if kind not in (1, 2) or (length & _INLINE and length & ~_INLINE > 4):
                continue
            start = value + 8 if length & _INLINE else self._cell(self._number(value + 8), b"")
            raw = self.data[start : start + min(length & ~_INLINE, MAX_TEXT)]
            name = self.data[value + 20 : value + 20 + self._number(value + 2, "<H")]
            code = "latin-1" if self._number(value + 16, "<H") & 1 else "utf-16-le"
            yield name.decode(code, "replace"), raw.decode("utf-16-le", "replace").split("\0")[0]
