"""The SQL that an application sets its database up with: whose dialect it is written in.

``install/schema.sql`` with ``ENGINE=InnoDB`` is for MySQL or MariaDB, one with ``SERIAL`` for PostgreSQL.
"""

import re
from collections.abc import Iterator
from itertools import islice
from typing import Final

from fundamentum.derive.beside.files_beside import files_in, line_at, texts_of
from fundamentum.derive.families import DATABASES
from fundamentum.derive.result import Entry, Place

MAX_FILES: Final = 20
_FOLDERS: Final = tuple(
    "|sql|db|database|schema|schemas|install|install/sql|installer|setup|data|resources|resources/sql|sql/schema".split(
        "|"
    )
)
_DIALECTS: Final = {
    "pdo_mysql": re.compile(
        r"\bENGINE\s{0,4}=\s{0,4}\w+|\bAUTO_INCREMENT\b|^CREATE TABLE (?:IF NOT EXISTS )?`", re.I | re.M
    ),
    "pdo_pgsql": re.compile(
        r"\b(?:BIG)?SERIAL\b|\bCREATE SEQUENCE\b|::(?:text|int|regclass)\b|\bplpgsql\b|\bTIMESTAMPTZ\b|\bBYTEA\b", re.I
    ),
    "pdo_sqlite": re.compile(r"\bAUTOINCREMENT\b|^PRAGMA\b", re.I | re.M),
}
"""Words of one dialect that the others do not have."""
WRITTEN_FOR: Final = "the SQL that sets its database up is written for it"


def written_for(root: str, base: str, named: frozenset[str]) -> Iterator[Entry]:
    """The driver for the database that the SQL is written for, where nothing else tells: the source connects by PDO
    alone, and no driver is among those ``named`` already.  Of several databases any one will do.
    """
    if "pdo" not in named or not named.isdisjoint(DATABASES):
        return
    places: dict[str, Place] = {}
    paths = (path for _, path in files_in(root, base, _FOLDERS) if path.lower().endswith(".sql"))
    for path, text in texts_of(root, islice(paths, MAX_FILES)):
        for extension, words in _DIALECTS.items():
            if match := words.search(text):
                places.setdefault(extension, Place(path, line_at(text, match.start()), match[0][:40], WRITTEN_FOR))
                break
    if places:
        yield Entry("extension", tuple(places), "recommended", "", WRITTEN_FOR, tuple(places.values()))
