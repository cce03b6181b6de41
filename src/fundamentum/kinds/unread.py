"""What of an application's own files nobody has looked at when its needs were derived: ``[unread]``."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any

import msgspec

from fundamentum.kinds.base import Context, Kind
from fundamentum.kinds.table_reader import Reader, Table
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Text, Value

_Files = Annotated[
    Text | None, msgspec.Meta(description="Why not all of the application's files were looked at; it may need more.")
]


class UnreadTable(Table):
    """What the needs in this file do not tell of.  Whoever has looked at that takes the table out."""

    files: _Files = None


class UnreadNeed(Value, frozen=True):
    """Whatever the files need that were not looked at."""

    text: str
    """Why not all files were looked at."""
    level: Level = "required"

    @property
    def key(self) -> NeedId:
        return NeedId("unread:files")


class Unread(Kind[UnreadNeed]):
    """Files that were not looked at: as long as there are any, nobody knows whether the application runs."""

    prefixes = ("unread",)
    order = 110
    tables = {"unread": UnreadTable}

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[UnreadNeed]:
        reason: str | None = tables["unread"].files
        if reason is not None:
            yield UnreadNeed(reason)

    def judge(self, need: UnreadNeed, context: Context) -> Finding:
        remedy = (
            "derive it again, as somebody who may read all of it and with more time "
            "(fundamentum derive DIR --seconds 300)"
        )
        return Finding(need.key, need.level, "unknown", wanted="all files looked at", found=need.text, remedy=remedy)

    def words(self, need: NeedId) -> str:
        return "whatever its other files need"

    def written(self, need: NeedId) -> str:
        return '[unread]\nfiles = "reading stopped"'


KIND = Unread()
