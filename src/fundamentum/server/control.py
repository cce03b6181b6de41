"""Stanzas of Debian control files, picked out of large ones quickly.

A full package index holds more than sixty thousand stanzas of which a few hundred matter here, so they are
selected as bytes first; relations and versions of those few are then left to the ``python-debian`` library.
"""

import re
from collections.abc import Iterator
from typing import Final

_FIELD: Final = re.compile(
    r"^(Package|Status|Version|Architecture|Provides|Depends|Pre-Depends|Section|Origin|Label|Suite|Codename):"
    r"[ \t]*(.*(?:\n[ \t].*)*)",
    re.M,
)
_NAME: Final = re.compile(rb"\nPackage: ([^\n]*)")
_RELATION_NAME: Final = re.compile(r"(?:^|[,|])\s*([a-z0-9][a-z0-9+.-]+)")


def fields(stanza: bytes) -> dict[str, str]:
    """The fields used here, folded lines joined."""
    text = stanza.decode("utf-8", "replace")
    return {name: " ".join(value.split()) if "\n" in value else value.strip() for name, value in _FIELD.findall(text)}


def starts_by_name(data: bytes) -> dict[bytes, list[int]]:
    """Package name → where its stanzas begin."""
    found: dict[bytes, list[int]] = {}
    if data.startswith(b"Package: "):
        found[data[9 : data.find(b"\n")].strip()] = [0]
    for match in _NAME.finditer(data):
        found.setdefault(match[1], []).append(match.start() + 1)
    return found


def stanza_at(data: bytes, start: int) -> bytes:
    """The stanza that begins at ``start``."""
    end = data.find(b"\n\n", start)
    return data[start:] if end < 0 else data[start:end]


def stanzas(data: bytes) -> Iterator[bytes]:
    """All stanzas of a small file."""
    return (part for part in data.split(b"\n\n") if part.strip())


def names_in(relation: str) -> list[str]:
    """Every package name in a relation field, alternatives included."""
    return _RELATION_NAME.findall(relation)
