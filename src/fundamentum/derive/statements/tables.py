"""Tables that stand in a program's source under a name that tells what they are, row by row."""

import re
from collections.abc import Iterable, Iterator


def rows(
    tables: Iterable[re.Match[bytes]], row: re.Pattern[bytes]
) -> Iterator[tuple[re.Match[bytes], re.Match[bytes], int]]:
    """Each row of each table: the match of the table, with its rows as ``body``; that of the row; its line."""
    counted, line = 0, 1
    for table in tables:
        for match in row.finditer(table.string, table.start("body"), table.end("body")):
            line += table.string.count(b"\n", counted, match.start())
            counted = match.start()
            yield table, match, line
