"""The line on which a key of a TOML document stands, for error messages.

The standard library's reader tells lines for syntax errors only.  The document is known to be valid here, so
looking for table headers and keys at the beginning of lines is enough.
"""

import re
from collections.abc import Sequence
from typing import Final

_HEADER: Final = re.compile(r"\s*\[\[?\s*(.+?)\s*\]\]?\s*(?:#.*)?")
_KEY: Final = re.compile(
    r"""\s*((?:"[^"]*"|'[^']*'|[A-Za-z0-9_-]+)(?:\s*\.\s*(?:"[^"]*"|'[^']*'|[A-Za-z0-9_-]+))*)\s*="""
)
_PART: Final = re.compile(r"""\"([^\"]*)\"|'([^']*)'|([A-Za-z0-9_-]+)""")


def line_of(text: str, path: Sequence[str], value: str | None = None) -> int | None:
    """The line where ``path`` is set; with ``value``, the line from there on that holds that string."""
    table: tuple[str, ...] = ()
    best: int | None = None
    lines = text.splitlines()
    for number, line in enumerate(lines, 1):
        if header := _HEADER.fullmatch(line):
            table = _parts(header[1])
            if table == tuple(path):
                best = best or number
            continue
        if key := _KEY.match(line):
            here = (*table, *_parts(key[1]))
            if here == tuple(path):
                return _within(lines, number, value)
            if here == tuple(path)[: len(here)]:  # an inline table, or a table made of dotted keys
                best = best or number
    return best


def _parts(dotted: str) -> tuple[str, ...]:
    return tuple(a or b or c for a, b, c in _PART.findall(dotted))


def _within(lines: list[str], start: int, value: str | None) -> int:
    if value is None:
        return start
    for number in range(start, len(lines) + 1):
        if f'"{value}"' in lines[number - 1] or f"'{value}'" in lines[number - 1]:
            return number
    return start
