"""The classes that a source file imports: ``use MongoDB\\Driver\\Manager;``, ``use Ds\\{Map, Set as Heap};``."""

import re
from collections.abc import Iterator
from typing import Final

_IMPORT: Final = re.compile(rb"\buse\s+(?!function\s|const\s)\\?([A-Za-z_][\w\\]*)(?:\s+as\s+(\w+))?\s*(?=[;,])", re.I)
_GROUP: Final = re.compile(rb"\buse\s+\\?([A-Za-z_][\w\\]*)\\\s*\{([^{};]{1,4000})\}", re.I)
_ENTRY: Final = re.compile(rb"\s*(?:class\s+)?([\w\\]+)(?:\s+as\s+(\w+))?\s*", re.I)


def imports_in(data: bytes) -> dict[str, str]:
    """Short name in lower case → full name, of classes that have another."""
    if b"use " not in data:
        return {}
    found = _imported(data)
    return {short.decode("latin-1").lower(): full.decode("latin-1") for short, full in found if short != full}


def _imported(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    for match in _IMPORT.finditer(data):
        yield match[2] or match[1].rpartition(b"\\")[2], match[1]
    for group in _GROUP.finditer(data):
        for part in group[2].split(b","):
            if entry := _ENTRY.fullmatch(part):
                yield entry[2] or entry[1].rpartition(b"\\")[2], group[1] + b"\\" + entry[1]


def full_name(written: str, imports: dict[str, str]) -> str:
    """A class as written in a file with its namespace, as far as an import tells it; without a backslash in front."""
    if written.startswith("\\"):
        return written[1:]
    first, sign, rest = written.partition("\\")
    return f"{imports.get(first.lower(), first)}{sign}{rest}"
