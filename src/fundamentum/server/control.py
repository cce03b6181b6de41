"""Stanzas of Debian control files, picked out of large ones quickly.

A full package index holds more than sixty thousand stanzas of which a few hundred matter here, so they are
selected as bytes first.  Versions are compared by the ``python-debian`` library.
"""

import itertools
import re
from collections.abc import Collection, Iterator
from mmap import mmap
from typing import Final

import msgspec

Bytes = bytes | mmap
_FIELD: Final = re.compile(
    r"^(Package|Status|Version|Architecture|Provides|Depends|Pre-Depends|Recommends|Conflicts|Breaks|Section|Origin|Label|Suite|Codename|"
    r"NotAutomatic|ButAutomaticUpgrades|Pin|Pin-Priority):"
    r"[ \t]*(.*(?:\n[ \t].*)*)",
    re.M,
)
_BLOCK: Final = 64 * 1024
_FIRST: Final = re.compile(rb"Package: (.*)")
_LINE: Final = re.compile(rb"\nP(ackage: .*|rovides: .*)")
_OF_PACKAGE, _OF_PROVIDES = len("ackage: "), len("rovides: ")
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
    """Which package stands where in a large file.

    The file is gone through in blocks, and for each name only its block is kept: a short search for each of the few
    hundred stanzas that are asked for takes less time than noting sixty thousand places one by one.
    ``marked`` are the names that contain ``mark``.
    """

    def __init__(self, data: Bytes, mark: bytes) -> None:
        self.data = data
        self.marked: list[bytes] = []
        self._block: dict[bytes, int] = {}
        self._earlier: dict[bytes, list[int]] = {}
        """Blocks that hold other versions of a package, which few have."""
        self._end: dict[int, int] = {}
        self._lines: list[list[bytes]] = []
        """For each block its ``Package`` and ``Provides`` lines."""
        start = 0
        while start < len(data):
            end = data.find(b"\n\n", start + _BLOCK) + 1 or len(data)
            lines: list[bytes] = _LINE.findall(data, start, end)
            if start == 0 and (first := _FIRST.match(data)):
                lines.insert(0, b"ackage: " + first[1])
            self._lines.append(lines)
            names = [line[_OF_PACKAGE:] for line in lines if line.startswith(b"a")]
            for name in [name for name in names if name in self._block]:
                self._earlier.setdefault(name, []).append(self._block[name])
            self._block.update(dict.fromkeys(names, start))
            self.marked += [name for name in names if mark in name]
            self._end[start] = end
            start = end

    def stanzas(self, name: bytes) -> list[bytes]:
        """All stanzas of one package; none if it is not in the file."""
        if name not in self._block:
            return []
        blocks = dict.fromkeys((*self._earlier.get(name, ()), self._block[name]))
        return [stanza for start in blocks for stanza in self._in_block(b"Package: " + name + b"\n", start)]

    def __contains__(self, name: bytes) -> bool:
        return name in self._block

    def providing(self, names: Collection[bytes]) -> set[bytes]:
        """The packages that provide one of these names."""
        wanted = re.compile(rb"(?:^|[ ,])(?:" + b"|".join(map(re.escape, sorted(names))) + rb")(?=[ ,(]|$)")
        found: set[bytes] = set()
        package = b""
        for line in itertools.chain.from_iterable(self._lines):
            if line.startswith(b"a"):
                package = line[_OF_PACKAGE:]
            elif wanted.search(line, _OF_PROVIDES):
                found.add(package)
        return found

    def _in_block(self, line: bytes, start: int) -> Iterator[bytes]:
        if start == 0 and self.data[: len(line)] == line:
            yield self._stanza(0)
        at = self.data.find(b"\n" + line, start, self._end[start])
        while at >= 0:
            yield self._stanza(at + 1)
            at = self.data.find(b"\n" + line, at + 1, self._end[start])

    def _stanza(self, start: int) -> bytes:
        end = self.data.find(b"\n\n", start)
        return self.data[start:] if end < 0 else self.data[start:end]


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
