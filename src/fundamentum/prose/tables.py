"""Tables with a column for PHP: of those with a row for each release of an application, the newest release counts.

``| Nightlog | PHP | MariaDB |`` with a row for 3.x, one for 2.x and so on; or with a row for the least and one for what
is advised.
"""

import re
from collections.abc import Iterator, Sequence
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import OF_LEVELS

COLUMNS: Final = lazy_regex(r"\|?\s*:?-+:?\s*(?:\|\s*:?-+:?\s*)*\|?")
"""The line below the names of a table's columns."""
_OF_PHP: Final = lazy_regex(r"\W*(?:[a-z]{1,15} ){0,2}PHP(?: [a-z]{1,15}){0,2}\W*", re.I)
_RELEASE: Final = lazy_regex(
    r"\W*(?:[A-Za-z][\w-]{0,30} ){0,3}v?(?P<first>\d{1,4})(?P<rest>(?:\.\d{1,4}){0,3})(?:\.[x*])?\+?"
    r"(?: \([^()]{0,40}\))?\W*"
)
MAX_LOOKED_AT: Final = 4000
"""Lines at the beginning of a text: the rest is not read anyway."""
MAX_CELLS: Final = 20
MAX_ROWS: Final = 200


def rows_told(text: str) -> str:
    """The text, with as many lines, each row of such tables told as sentences: each cell behind its column's name."""
    lines = text.split("\n")
    for at in range(1, min(len(lines), MAX_LOOKED_AT)):
        if "|" in lines[at] and "|" in lines[at - 1] and COLUMNS.fullmatch(lines[at].strip()):
            _tell(lines, at, _cells(lines[at - 1]))
    return "\n".join(lines)


def _tell(lines: list[str], at: int, names: Sequence[str]) -> None:
    """``at``: the line below the names of the columns."""
    if len(names) < 2 or _OF_PHP.fullmatch(names[0]) or not any(map(_OF_PHP.fullmatch, names[1:])):
        return
    rows = dict(_rows(lines, at + 1))
    releases = {number: _release(cells[0]) for number, cells in rows.items()}
    if len(rows) > 1 and all(releases.values()):
        told = {max(releases, key=lambda number: releases[number]): "requires"}
    elif rows and all(OF_LEVELS.fullmatch(cells[0]) for cells in rows.values()):
        told = {number: cells[0] for number, cells in rows.items()}
    else:
        return
    for number in (at - 1, at, *rows):
        lines[number] = ""
    for number, how in told.items():
        cells = zip(names[1:], rows[number][1:], strict=False)
        lines[number] = "; ".join(_sentence(how, name, cell) for name, cell in cells if cell)


def _sentence(how: str, name: str, cell: str) -> str:
    if _OF_PHP.fullmatch(name):
        return f"{how} PHP {cell}"
    return f"{name} {cell}" if how == "requires" else f"{how} {name} {cell}"


def _rows(lines: Sequence[str], start: int) -> Iterator[tuple[int, list[str]]]:
    for number in range(start, min(start + MAX_ROWS, len(lines))):
        if "|" not in lines[number]:
            return
        yield number, _cells(lines[number])


def _cells(line: str) -> list[str]:
    return [cell.strip() for cell in line.strip().strip("|").split("|")[:MAX_CELLS]]


def _release(cell: str) -> tuple[int, ...]:
    """The numbers of a release; empty: it is none."""
    match = _RELEASE.fullmatch(cell)
    return tuple(map(int, f"{match['first']}{match['rest']}".split("."))) if match else ()
