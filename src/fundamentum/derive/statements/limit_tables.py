"""Tables of limits that a configuration of the program's holds under a name that says what they are.

``'recommendedPhpSettings' => ['memory_limit' => '256M', 'max_execution_time' => 180]``
"""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.derive.families import LIMITS
from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.php_source.word_search import matching
from fundamentum.derive.statements.extension_lists import RECOMMENDED
from fundamentum.derive.statements.tables import rows

IN_TABLE: Final = "in a table called "
"""Begins what is said of such a wish: what the program does where a limit is lower tells more."""
TABLE: Final = re.compile(
    rb"(?P<title>(?:recommend|requir|minim|suggest)\w{0,30}?(?:param|setting|ini|limit|directive|conf)\w{0,30})['\"]?\s*(?:=>|=)\s*"
    rb"(?:\[|array\s*\()(?P<body>(?:\s*['\"][\w.]{3,40}['\"]\s*=>\s*['\"]?-?\w{1,12}['\"]?\s*,?){1,20})",
    re.I,
)
_BEGINNINGS: Final = (b"recommend", b"requir", b"minim", b"suggest")
_ROW: Final = re.compile(rb"['\"]([\w.]{3,40})['\"]\s*=>\s*['\"]?(\d+[kKmMgG]?)['\"]?")


def limits_in(data: bytes) -> Iterator[Wish]:
    """The limits of each such table."""
    tables = matching(TABLE, _BEGINNINGS, data.lower(), data) if b"_limit" in data or b"max_" in data else ()
    for table, row, at in rows(tables, _ROW):
        title, name, value = table["title"].decode("latin-1"), row[1].decode(), row[2].decode()
        if name in LIMITS and value.strip("0kKmMgG"):
            yield Wish("setting", name, f">= {value}", at, IN_TABLE + title, RECOMMENDED.search(title) is None)
