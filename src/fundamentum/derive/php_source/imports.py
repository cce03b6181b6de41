"""The classes that a source file imports: ``use MongoDB\\Driver\\Manager;``, ``use Ds\\{Map, Set as Heap};``.

Told by its text alone, for those who look at files that are not parsed; of a file that is, its tree tells more.
"""

import re
from collections.abc import Iterator, Mapping
from typing import Final

MAX_STATEMENT: Final = 4000
"""Bytes of one import, with all its names."""
_GROUP: Final = re.compile(rb"use\s++\\?+([A-Za-z_][\w\\]*)\\\s*+\{([^{}]*+)\}")
_ENTRY: Final = re.compile(rb"\s*+(?:class\s++)?\\?+([\w\\]++)(?:\s++as\s++(\w++))?\s*+", re.I)
_OF_OTHERS: Final = re.compile(rb"use\s++(?:function|const)\s", re.I)


def import_statements(code: bytes) -> list[bytes]:
    """Each statement of a file that may be an import, without the semicolon."""
    imported = []
    for chunk in code.split(b";") if b"use " in code else ():
        at = chunk.rfind(b"use ")
        if at >= 0 and len(chunk) - at <= MAX_STATEMENT:
            imported.append(chunk[at:])
    return imported


def imports_in(data: bytes) -> dict[str, str]:
    """Short name in lower case → full name, of classes that have another."""
    pairs = (pair for statement in import_statements(data) for pair in _imported(statement))
    return {short.decode("latin-1").lower(): full.decode("latin-1") for short, full in pairs if short != full}


def _imported(statement: bytes) -> Iterator[tuple[bytes, bytes]]:
    if _OF_OTHERS.match(statement):
        return
    group = _GROUP.fullmatch(statement.rstrip())
    before, names = (group[1] + b"\\", group[2]) if group else (b"", statement[len(b"use ") :])
    for part in names.split(b","):
        if entry := _ENTRY.fullmatch(part):
            yield entry[2] or entry[1].rpartition(b"\\")[2], before + entry[1]


def full_name(written: str, imports: Mapping[str, str]) -> str:
    """A class as written in a file with its namespace, as far as an import tells it; without a backslash in front."""
    if written.startswith("\\"):
        return written[1:]
    first, sign, rest = written.partition("\\")
    return f"{imports.get(first.lower(), first)}{sign}{rest}"
