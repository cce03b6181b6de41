"""Stanzas of Debian control files, picked out of large ones quickly.

A full package index holds more than sixty thousand stanzas of which a few hundred matter here, so they are
selected as bytes first.  Versions are compared by the ``python-debian`` library.
"""

import bisect
import itertools
import re
from collections.abc import Collection, Iterator
from mmap import mmap
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.packages import Relation

Bytes = bytes | mmap
_FIELD: Final = lazy_regex(
    r"^(Package|Source|Status|Version|Architecture|Provides|Depends|Pre-Depends|Recommends|Conflicts|Breaks|Section|Size|Installed-Size|Origin|Label|Suite|Codename|"
    r"NotAutomatic|ButAutomaticUpgrades|Pin|Pin-Priority):"
    r"[ \t]*(.*(?:\n[ \t].*)*)",
    re.M,
)
_BLOCK: Final = 64 * 1024
MAX_PACKAGES: Final = 400_000
"""Names in one index: five times what the largest distribution has."""
MAX_LINES: Final = 64 * 1024 * 1024
"""Bytes of the lines of one index that are kept."""
MAX_STANZA: Final = 256 * 1024
"""Bytes of one package's description."""
MAX_SEARCHED: Final = 4 * 1024 * 1024 * 1024
"""Bytes that are searched for names that packages provide: hundreds of names, in what real indexes have."""
MAX_FOUND: Final = 20_000
"""Places where one such name is found."""
MAX_VERSIONS: Final = 200
"""Versions of one package in one index."""
_FIRST: Final = lazy_regex(rb"Package: (.*)")
_LINE: Final = lazy_regex(rb"\nP(ackage: .*|rovides: .*)")
_OF_PACKAGE, _OF_PROVIDES = len("ackage: "), len("rovides: ")
_NAME_IN_RELATION: Final = lazy_regex(r"(?:^|[,|])\s*([a-z0-9][a-z0-9+.-]*)")
_RELATION: Final = lazy_regex(
    r"\s*(?P<name>[a-z0-9][a-z0-9+.-]*)(?::[a-z0-9-]+)?\s*(?:\(\s*(?P<relation><<|<=|=|>=|>>|<|>)\s*(?P<version>[^\s)]+)\s*\))?"
)


PACKAGE_NAME: Final = lazy_regex(r"[a-z0-9][a-z0-9+.-]*")
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
        self._provides: bytes | None = None
        self._providers: list[bytes] = []
        self._ends: list[int] = []
        self.cut = False
        """Whether there is more in it than any distribution has: the rest is not looked at."""
        start = kept = 0
        while start < len(data):
            end = data.find(b"\n\n", start + _BLOCK) + 1 or len(data)
            lines: list[bytes] = _LINE.findall(data, start, end)
            if start == 0 and (first := _FIRST.match(data)):
                lines.insert(0, b"ackage: " + first[1])
            kept += sum(map(len, lines))
            if kept > MAX_LINES or len(self._block) > MAX_PACKAGES:
                self.cut = True
                return
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
        found = (stanza for start in blocks for stanza in self._in_block(b"Package: " + name + b"\n", start))
        return list(itertools.islice(found, MAX_VERSIONS))

    def __contains__(self, name: bytes) -> bool:
        return name in self._block

    def providing(self, names: Collection[bytes]) -> set[bytes]:
        """The packages that provide one of these names."""
        if self._provides is None:
            lines = list(itertools.chain.from_iterable(self._lines))
            pairs = [(one, two) for one, two in itertools.pairwise(lines) if two[:1] == b"r"]
            self._providers = [package[_OF_PACKAGE:] for package, _ in pairs]
            self._provides = b"\n".join(line for _, line in pairs)
            self._ends = list(itertools.accumulate(len(line) + 1 for _, line in pairs))
        some = itertools.islice(sorted(names), MAX_SEARCHED // (len(self._provides) + 1))
        return {self._providers[bisect.bisect_right(self._ends, at)] for name in some for at in self._places(name)}

    def _places(self, name: bytes) -> Iterator[int]:
        """Where a name stands as a whole word among all that is provided."""
        text = self._provides or b""
        at, left = text.find(name), MAX_FOUND
        while at >= 0 and left:
            left -= 1
            if text[at - 1 : at] in (b" ", b",") and text[at + len(name) : at + len(name) + 1] in (
                b" ",
                b",",
                b"(",
                b"",
                b"\n",
            ):
                yield at
            at = text.find(name, at + 1)

    def _in_block(self, line: bytes, start: int) -> Iterator[bytes]:
        if start == 0 and self.data[: len(line)] == line:
            yield self._stanza(0)
        at = self.data.find(b"\n" + line, start, self._end[start])
        while at >= 0:
            yield self._stanza(at + 1)
            at = self.data.find(b"\n" + line, at + 1, self._end[start])

    def _stanza(self, start: int) -> bytes:
        end = self.data.find(b"\n\n", start, start + MAX_STANZA)
        return self.data[start : start + MAX_STANZA] if end < 0 else self.data[start:end]


def stanzas(data: bytes) -> Iterator[bytes]:
    """All stanzas of a small file."""
    start = 0
    while start < len(data):
        end = data.find(b"\n\n", start)
        end = len(data) if end < 0 else end
        if (part := data[start : min(end, start + MAX_STANZA)]).strip():
            yield part
        start = end + 2


def relations(field: str) -> list[list[Relation]]:
    """A relation field of a binary package: groups that must all hold, each with its alternatives.

    Source: Debian policy, 7.1.  Indexes hold neither architecture nor profile restrictions.  The grammar is this one
    pattern; the library that knows the rest of it takes as long to import as everything else here to run.
    """
    groups = ([_RELATION.match(one) for one in group.split("|")] for group in field.split(",") if group.strip())
    return [
        [Relation(relation["name"], relation["relation"], relation["version"]) for relation in group if relation]
        for group in groups
    ]


def names_in(field: str) -> list[str]:
    """Every package name in a relation field, alternatives included; quicker where versions do not matter."""
    return _NAME_IN_RELATION.findall(field)


def built_from(entry: dict[str, str]) -> str:
    """Name and version of the source a binary package was built from; empty where both are its own.

    Source: Debian policy, 5.6.1.
    """
    name, _, version = entry.get("Source", "").partition(" ")
    return f"{name} {version.strip('() ') or entry.get('Version', '')}" if name else ""


_OF_SOURCE: Final = lazy_regex(rb"^(Package|Source|Version): (.*)", re.M)


def source_of(stanza: bytes) -> str:
    """Name and version of the source of a binary package, whether or not they are its own."""
    entry = {field.decode(): value.decode("utf-8", "replace").strip() for field, value in _OF_SOURCE.findall(stanza)}
    return built_from(entry) or f"{entry.get('Package', '')} {entry.get('Version', '')}"
