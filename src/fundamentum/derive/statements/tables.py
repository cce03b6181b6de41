"""Tables that stand in a program's source under a name that tells what they are, row by row."""

import re
from collections.abc import Iterator


def rows(
    data: bytes, table: re.Pattern[bytes], row: re.Pattern[bytes]
) -> Iterator[tuple[re.Match[bytes], re.Match[bytes], int]]:
    """Each row of each such table: the match of the table, with its rows as ``body``; that of the row; its line."""
    for whole in table.finditer(data):
        for one in row.finditer(data, whole.start("body"), whole.end("body")):
            yield whole, one, data.count(b"\n", 0, one.start()) + 1
