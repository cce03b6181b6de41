"""Databases of which a document says that they are not for everyday use: *SQLite support is experimental*."""

import re
from collections.abc import Iterator
from typing import Final

_NAMES: Final = {
    "mariadb": "mysql",
    "mysql": "mysql",
    "postgresql": "pgsql",
    "postgres": "pgsql",
    "sqlite": "sqlite",
    "firebird": "firebird",
}
"""What people call them → the vendor's word in the names of drivers."""
_NAME: Final = rf"\b(?P<name>{'|'.join(_NAMES)})\d?\b"
_CALLED_SO: Final = (
    r"(?:(?:highly |still |very )*(?:experimental|untested|unstable)|in (?:alpha|beta)\b|(?:alpha|beta) quality|"
    r"not (?:yet )?(?:officially )?(?:supported|recommended|ready)|"
    r"(?:only )?(?:meant |intended |suitable |useful )?(?:only )?for (?:test(?:s|ing)?|trials?|demos?|development)\b)"
)
_SHAPES: Final = (
    re.compile(
        rf"{_NAME}(?: databases?| backend| driver| support){{0,2}}(?: is| are|:|,| \()\s?(?:only )?{_CALLED_SO}", re.I
    ),
    re.compile(rf"\bexperimental(?: support)?(?: for|:)? {_NAME}", re.I),
)


def experimental_databases(sentence: str) -> Iterator[str]:
    """The vendors of those that a sentence calls so."""
    for shape in _SHAPES:
        yield from (_NAMES[match["name"].lower()] for match in shape.finditer(sentence))
