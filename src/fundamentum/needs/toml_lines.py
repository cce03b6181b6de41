"""The line and the column at which a key of a TOML document stands, for error messages.

The standard library's reader tells lines for syntax errors only.  The document is known to be valid here, so
looking for table headers and keys at the beginning of lines is enough.
"""

from collections.abc import Sequence
from typing import Final

from fundamentum.lazy_regex import lazy_regex

_HEADER: Final = lazy_regex(r"""\s*\[\[?\s*((?:"[^"]*+"|'[^']*+'|[^\]"'])++)\]\]?\s*(?:#.*)?""")
_KEY: Final = lazy_regex(
    r"""\s*((?:"[^"]*"|'[^']*'|[A-Za-z0-9_-]+)(?:\s*\.\s*(?:"[^"]*"|'[^']*'|[A-Za-z0-9_-]+))*)\s*="""
)
_PART: Final = lazy_regex(r"""\"([^\"]*)\"|'([^']*)'|([A-Za-z0-9_-]+)""")


Spot = tuple[int, int]
"""Line and column, from 1 on."""


def spot_of(text: str, path: Sequence[str], value: str | None = None) -> Spot | None:
    """Where ``path`` is set; with ``value``, where that string stands from there on."""
    table: tuple[str, ...] = ()
    best: Spot | None = None
    lines = text.splitlines()
    for number, line in enumerate(lines, 1):
        if header := _HEADER.fullmatch(line):
            table = _parts(header[1])
            if table[: len(path)] == tuple(path):
                best = best or (number, header.start(1) + 1)
            continue
        if key := _KEY.match(line):
            here = (*table, *_parts(key[1]))
            if here == tuple(path):
                return _within(lines, (number, key.start(1) + 1), value)
            if here == tuple(path)[: len(here)]:  # an inline table, or a table made of dotted keys
                best = best or (number, key.start(1) + 1)
    return best


def _parts(dotted: str) -> tuple[str, ...]:
    return tuple(a or b or c for a, b, c in _PART.findall(dotted))


def _within(lines: list[str], start: Spot, value: str | None) -> Spot:
    for number in range(start[0], len(lines) + 1) if value is not None else ():
        at = max(lines[number - 1].find(f'"{value}"'), lines[number - 1].find(f"'{value}'"))
        if at >= 0:
            return number, at + 2
    return start
