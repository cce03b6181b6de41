"""Directories in which a program writes files, or keeps a database in one: SQLite writes beside it, too.

``fopen(__DIR__ . '/logs/night.log', 'a')``, ``new PDO('sqlite:' . __DIR__ . '/data/nights.db')``
"""

import itertools
import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.php_source.nodes import ancestors, arguments, line, text
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.php_source.word_search import matching
from fundamentum.derive.statements.values import values
from fundamentum.derive.statements.wishes import directories_named

IN_A_FILE: Final = "a database in a file"
PLACES: Final = {"fopen": 0, "touch": 0, "error_log": 2, "session_save_path": 0}
"""Functions that write somewhere, and which of their arguments is the place."""
_WORDS: Final = tuple(name.encode() for name in PLACES)
WRITES: Final = re.compile(
    rb"\b(?:(?P<open>fopen)\s*+\([^;\n]{1,160},\s*+['\"][waxc]|(?P<touch>touch)\s*+\(\s*+[$'\"_A-Zd]|"
    rb"(?P<log>error_log)\s*+\([^;\n]{1,200},\s*+3\s*+,|(?P<session>session_save_path)\s*+\(\s*+[^)\s])"
)
"""How they are called where they write to a file that is named there."""
MAX_WRITES: Final = 100
"""Such places of one file."""
_OPENS: Final = re.compile(rb"\bnew\s++\\?(?:\w++\\)?(?P<kind>pdo|sqlite3?)\s*+\(", re.I)
_SCHEME: Final = "sqlite:"


def written_files(source: Source) -> Iterator[Wish]:
    """The directory of each file that is opened for writing, as far as its path is known."""
    for match in itertools.islice(matching(WRITES, _WORDS, source.data), MAX_WRITES):
        name = (match["open"] or match["touch"] or match["log"] or match["session"]).decode()
        call = _around(source, match.start(), match.start() + len(name), "function_call_expression")
        if call is None or text(call.children[0]).lstrip("\\").lower() != name or len(arguments(call)) <= PLACES[name]:
            continue
        for value in values(arguments(call)[PLACES[name]], source):
            for directory in directories_named(value, of_file=name != "session_save_path"):
                yield Wish("directory", directory, "", line(call), f"{name}()")
    yield from _databases(source)


def _databases(source: Source) -> Iterator[Wish]:
    """The directory of each database that is opened as a file."""
    if b"qlite" not in source.data.lower():
        return
    for match in [*_OPENS.finditer(source.data)][:MAX_WRITES]:
        made = _around(source, match.start("kind"), match.end("kind"), "object_creation_expression")
        given = arguments(made) if made is not None else []
        for value in values(given[0], source) if given else ():
            path = value.removeprefix(_SCHEME)
            if path == value and match["kind"].lower() == b"pdo":
                continue  # another kind of database
            for directory in directories_named(path, of_file=True):
                yield Wish("directory", directory, "", line(made) if made is not None else 0, IN_A_FILE)


def _around(source: Source, start: int, end: int, kind: str) -> Node | None:
    """The call of which the name stands at a place."""
    node = source.at(start, end)
    return next((above for above, _ in ancestors(node) if above.type == kind), None) if node is not None else None
