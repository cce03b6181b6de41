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
_BLOCK: Final = 4 * 1024 * 1024
"""Bytes that are gone through before what was found is counted."""
MAX_PACKAGES: Final = 400_000
"""Names in one index: five times what the largest distribution has."""
MAX_LINES: Final = 64 * 1024 * 1024
"""Bytes of what is provided by the packages of one index."""
MAX_STANZA: Final = 256 * 1024
"""Bytes of one package's description."""
MAX_SEARCHED: Final = 4 * 1024 * 1024 * 1024
"""Bytes that are searched for names that packages provide: hundreds of names, in what real indexes have."""
MAX_FOUND: Final = 20_000
"""Places where one such name is found."""
MAX_VERSIONS: Final = 200
"""Versions of one package in one index."""
_FIRST: Final = lazy_regex(rb"Package: (.*)")
_LINE: Final = lazy_regex(rb"\nP(?:ackage: (.{1,255})|rovides: (.*))")
_BEFORE_A_NAME: Final = (b" ", b",", b"\n")
_BEHIND_A_NAME: Final = (b" ", b",", b"(", b"\n", b"")
_NAME_IN_RELATION: Final = lazy_regex(r"(?:^|[,|])\s*([a-z0-9][a-z0-9+.-]*)")
_RELATION: Final = lazy_regex(
    r"\s*(?P<name>[a-z0-9][a-z0-9+.-]*)(?::[a-z0-9-]+)?\s*(?:\(\s*(?P<relation><<|<=|=|>=|>>|<|>)\s*(?P<version>[^\s)]+)\s*\))?"
)


PACKAGE_NAME: Final = lazy_regex(r"[a-z0-9][a-z0-9+.-]*")
"""Source: Debian policy, 5.6.1."""


def fields(stanza: bytes, errors: str = "replace") -> dict[str, str]:
    """Its fields; where some are folded, those used here, joined.

    ``errors`` is what to do with bytes that are no text.
    """
    text = stanza.decode("utf-8", errors)
    if "\n " not in text and "\n\t" not in text:
        parts = (line.partition(":") for line in text.split("\n"))
        return {name: value.strip() for name, colon, value in parts if colon}
    return {name: " ".join(value.split()) if "\n" in value else value.strip() for name, value in _FIELD.findall(text)}


class Index:
    """Which package stands where in a large file, and what each provides.

    ``marked`` are the names that contain ``mark``.
    """

    def __init__(self, data: Bytes, mark: bytes) -> None:
        self.data = data
        self._place: dict[bytes, int] = {}
        self._earlier: dict[bytes, list[int]] = {}
        """Places of other versions of a package, which few have."""
        self._providers: list[bytes] = []
        self._provided: list[bytes] = []
        """What each of them provides, as it stands there."""
        self._provides: bytes | None = None
        self._ends: list[int] = []
        self.cut = False
        """Whether there is more in it than any distribution has: the rest is not looked at."""
        start = kept = 0
        while start < len(data) and not self.cut:
            end = data.find(b"\n\n", start + _BLOCK) + 1 or len(data)
            kept += self._note(start, end)
            self.cut = len(self._place) > MAX_PACKAGES or kept > MAX_LINES
            start = end
        self.marked = list(_holding(mark, b"\n".join((b"", *self._place, b""))))

    def _note(self, start: int, end: int) -> int:
        """Keep what the lines of a block tell that name a package or what it provides; the bytes of the latter."""
        place, package, kept = self._place, b"", 0
        if start == 0 and (first := _FIRST.match(self.data)):
            package = first[1]
            place[package] = 0
        for line in _LINE.finditer(self.data, start, end):
            if name := line[1]:
                package = name
                if package in place and len(earlier := self._earlier.setdefault(package, [])) < MAX_VERSIONS:
                    earlier.append(place[package])
                place[package] = line.start() + 1
            elif package:
                self._providers.append(package)
                self._provided.append(line[2])
                kept += len(line[2])
        return kept

    def stanzas(self, name: bytes) -> list[bytes]:
        """All stanzas of one package; none if it is not in the file."""
        if name not in self._place:
            return []
        places = (*self._earlier.get(name, ()), self._place[name])
        return [self._stanza(place) for place in places[:MAX_VERSIONS]]

    def __contains__(self, name: bytes) -> bool:
        return name in self._place

    def providing(self, names: Collection[bytes]) -> set[bytes]:
        """The packages that provide one of these names."""
        if self._provides is None:
            self._provides = b"\n".join((b"", *self._provided))
            self._ends = list(itertools.accumulate(len(line) + 1 for line in self._provided))
        some = itertools.islice(sorted(names), MAX_SEARCHED // (len(self._provides) + 1))
        return {self._providers[bisect.bisect_right(self._ends, at)] for name in some for at in self._places(name)}

    def _places(self, name: bytes) -> Iterator[int]:
        """Where a name stands as a whole word among all that is provided."""
        text = self._provides or b""
        at, left = text.find(name), MAX_FOUND
        while at >= 0 and left:
            left -= 1
            if text[at - 1 : at] in _BEFORE_A_NAME and text[at + len(name) : at + len(name) + 1] in _BEHIND_A_NAME:
                yield at
            at = text.find(name, at + 1)

    def _stanza(self, start: int) -> bytes:
        end = self.data.find(b"\n\n", start, start + MAX_STANZA)
        return self.data[start : start + MAX_STANZA] if end < 0 else self.data[start:end]


def _holding(mark: bytes, text: bytes) -> Iterator[bytes]:
    """The lines that contain the mark, of a text that begins and ends with a newline."""
    at = text.find(mark)
    while at >= 0:
        end = text.find(b"\n", at)
        yield text[text.rfind(b"\n", 0, at) + 1 : end]
        at = text.find(mark, end)


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
    groups = (
        [_RELATION.match(alternative) for alternative in group.split("|")]
        for group in field.split(",")
        if group.strip()
    )
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
