"""Stanzas of Debian control files, picked out of large ones quickly.

A full package index holds more than sixty thousand stanzas of which a few hundred matter here, so they are
selected as bytes first.  Versions are compared by the ``python-debian`` library.
"""

import re
from collections.abc import Iterator
from itertools import chain
from mmap import mmap
from typing import Final

import msgspec

Bytes = bytes | mmap
_FIELD: Final = re.compile(
    r"^(Package|Status|Version|Architecture|Provides|Depends|Pre-Depends|Section|Origin|Label|Suite|Codename):"
    r"[ \t]*(.*(?:\n[ \t].*)*)",
    re.M,
)
_FIRST: Final = re.compile(rb"Package: (.*)")
_NAME: Final = re.compile(rb"\nPackage: (.*)")
_NAME_IN_RELATION: Final = re.compile(r"(?:^|[,|])\s*([a-z0-9][a-z0-9+.-]*)")
_RELATION: Final = re.compile(
    r"\s*(?P<name>[a-z0-9][a-z0-9+.-]*)(?::[a-z0-9-]+)?\s*(?:\(\s*(?P<relation><<|<=|=|>=|>>|<|>)\s*(?P<version>[^\s)]+)\s*\))?"
)


PACKAGE_NAME: Final = re.compile(r"[a-z0-9][a-z0-9+.-]*")
"""Source: Debian policy, 5.6.1."""


def fields(stanza: bytes, errors: str = "replace") -> dict[str, str]:
    """The fields used here, folded lines joined.  ``errors`` is what to do with bytes that are no text."""
    text = stanza.decode("utf-8", errors)
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


class Relation(msgspec.Struct, frozen=True):
    """One package that another depends on, and which versions of it will do."""

    name: str
    operator: str | None = None
    version: str | None = None


def relations(field: str) -> list[list[Relation]]:
    """A relation field of a binary package: groups that must all hold, each with its alternatives.

    Source: Debian policy, 7.1.  Indexes hold neither architecture nor profile restrictions.  The grammar is this one
    pattern; the library that knows the rest of it takes as long to import as everything else here to run.
    """
    groups = ([_RELATION.match(one) for one in group.split("|")] for group in field.split(",") if group.strip())
    return [[Relation(m["name"], m["relation"], m["version"]) for m in group if m] for group in groups]


def names_in(field: str) -> list[str]:
    """Every package name in a relation field, alternatives included; quicker where versions do not matter."""
    return _NAME_IN_RELATION.findall(field)
