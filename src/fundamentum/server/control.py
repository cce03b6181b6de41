"""Stanzas of Debian control files, picked out of large ones quickly.

A full package index holds more than sixty thousand stanzas of which a few hundred matter here, so they are
selected as bytes first; relations and versions of those few are then left to the ``python-debian`` library.
"""

import re
from collections.abc import Iterator
from itertools import chain
from mmap import mmap
from typing import Final

Bytes = bytes | mmap
_FIELD: Final = re.compile(
    r"^(Package|Status|Version|Architecture|Provides|Depends|Pre-Depends|Section|Origin|Label|Suite|Codename):"
    r"[ \t]*(.*(?:\n[ \t].*)*)",
    re.M,
)
_FIRST: Final = re.compile(rb"Package: (.*)")
_NAME: Final = re.compile(rb"\nPackage: (.*)")
_RELATION_NAME: Final = re.compile(r"(?:^|[,|])\s*([a-z0-9][a-z0-9+.-]+)")


def fields(stanza: bytes) -> dict[str, str]:
    """The fields used here, folded lines joined."""
    text = stanza.decode("utf-8", "replace")
    return {name: " ".join(value.split()) if "\n" in value else value.strip() for name, value in _FIELD.findall(text)}


class Index:
    """Where each package's stanzas stand in a large file, found in one pass.

    ``marked`` are the names that contain ``mark``, picked out on the way.
    """

    def __init__(self, data: Bytes, mark: bytes) -> None:
        self.data = data
        self.marked: list[bytes] = []
        self._first: dict[bytes, int] = {}
        self._more: dict[bytes, list[int]] = {}
        """Where the further versions of a package stand, which few have."""
        first, more = self._first, self._more
        for match in _places(data):
            name = match[1]
            if name in first:
                more.setdefault(name, []).append(match.start())
                continue
            first[name] = match.start()
            if mark in name:
                self.marked.append(name)

    def stanzas(self, name: bytes) -> list[bytes]:
        """All stanzas of one package; none if it is not in the file."""
        if name not in self._first:
            return []
        return [self._stanza(start) for start in (self._first[name], *self._more.get(name, ()))]

    def _stanza(self, start: int) -> bytes:
        end = self.data.find(b"\n\n", start + 1)
        return self.data[start:] if end < 0 else self.data[start:end]


def _places(data: Bytes) -> Iterator[re.Match[bytes]]:
    # Two patterns, since one with an alternative at its head would be twenty times slower to search for.
    first = _FIRST.match(data)
    return chain((first,) if first else (), _NAME.finditer(data))


def stanzas(data: bytes) -> Iterator[bytes]:
    """All stanzas of a small file."""
    return (part for part in data.split(b"\n\n") if part.strip())


def names_in(relation: str) -> list[str]:
    """Every package name in a relation field, alternatives included."""
    return _RELATION_NAME.findall(relation)
