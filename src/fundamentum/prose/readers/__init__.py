"""What can be understood in a line: one file for each kind of statement, found by its name.

An entry has ``read(line)``, which yields :class:`~fundamentum.prose.statement.Statement` values.
"""

from collections.abc import Iterator

from fundamentum import entries
from fundamentum.prose.levels_in_line import by_level
from fundamentum.prose.line import Line
from fundamentum.prose.statement import Statement


def names() -> tuple[str, ...]:
    """The kinds of statements that there are."""
    return entries.names(__name__)


def understood(line: Line) -> Iterator[Statement]:
    """All that some reader understands in a line."""
    for part in by_level(line):
        for name in names():
            yield from entries.entry(__name__, name).read(part)
