"""Directories in which a program keeps a database of its own in a file: SQLite writes beside it, too.

``new PDO('sqlite:' . __DIR__ . '/data/nights.db')``, ``new SQLite3($dir . '/nights.db')``
"""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.php_source.nodes import ancestors, arguments, line
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.statements.values import values
from fundamentum.derive.statements.wishes import directories_named

IN_A_FILE: Final = "a database in a file"
MAX_OPENED: Final = 50
"""Databases that one file opens."""
_OPENS: Final = re.compile(rb"\bnew\s++\\?(?:\w++\\)?(?P<kind>pdo|sqlite3?)\s*+\(", re.I)
_SCHEME: Final = "sqlite:"


def database_directories(source: Source) -> Iterator[Wish]:
    """The directory of each database that is opened as a file, as far as its path is known."""
    if b"qlite" not in source.data.lower():
        return
    for match in list(_OPENS.finditer(source.data))[:MAX_OPENED]:
        node = source.at(match.start("kind"), match.end("kind"))
        made = (
            next((one for one, _ in ancestors(node) if one.type == "object_creation_expression"), None)
            if node
            else None
        )
        given = arguments(made) if made is not None else []
        for value in values(given[0], source) if given else ():
            path = value.removeprefix(_SCHEME)
            if path == value and match["kind"].lower() == b"pdo":
                continue  # another kind of database
            for directory in directories_named(path, of_file=True):
                yield Wish("directory", directory, "", line(node) if node else 0, IN_A_FILE)
