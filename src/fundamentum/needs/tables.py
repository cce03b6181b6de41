"""The whole of a needs file, put together from the tables of all kinds of needs; the shipped schema is made from it."""

from collections.abc import Iterator
from functools import cache
from typing import Annotated, Any

import msgspec

from fundamentum.kinds import kinds
from fundamentum.kinds.table_reader import Table
from fundamentum.model.needs_value import Text
from fundamentum.model.safe_text import END


class ApplicationTable(Table):
    """Which application this is."""

    name: Annotated[
        str,
        msgspec.Meta(
            pattern=rf"^[A-Za-z0-9][A-Za-z0-9._-]{{0,63}}{END}",
            description="A short name; also used in the names of files a plan writes.",
        ),
    ]
    version: Annotated[Text | None, msgspec.Meta(description="The application's own version.")] = None


Notes = Annotated[dict[str, Text], msgspec.Meta(description='Why a need exists: "extension:intl" to a sentence.')]
Derived = Annotated[
    dict[str, Text],
    msgspec.Meta(description="What a derivation said of each need; it tells later what a person has changed."),
]


@cache
def needs_file() -> type[Any]:
    """The type of a whole needs file, with a field for each table."""
    tables = {name: table for kind in kinds() for name, table in kind.tables.items()}
    needs_type = msgspec.defstruct(
        "NeedsFile",
        [
            ("format", Annotated[int, msgspec.Meta(description="Always 1.")]),
            ("application", ApplicationTable),
            *((name, table, msgspec.field(default_factory=table)) for name, table in tables.items()),
            ("notes", Notes, msgspec.field(default_factory=dict)),
            ("derived", Derived, msgspec.field(default_factory=dict)),
        ],
        forbid_unknown_fields=True,
        omit_defaults=True,
    )
    needs_type.__doc__ = "What one PHP application requires of a server."
    return needs_type


def known_keys(path: tuple[str, ...]) -> tuple[str, ...]:
    """The keys that can stand in a table, for messages that say so; empty for one that is not known."""
    at: Any = needs_file()
    for name in path:
        at = dict(_tables_in(at)).get(name)
        if at is None:
            return ()
    return tuple(at.__struct_fields__)


def _tables_in(table: type[msgspec.Struct]) -> Iterator[tuple[str, type[msgspec.Struct]]]:
    for field in msgspec.structs.fields(table):
        if isinstance(field.type, type) and issubclass(field.type, msgspec.Struct):
            yield field.name, field.type
