"""The application's own database on a database server, and the user who has it."""

from collections.abc import Iterator, Sequence
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.changes.database import PrepareDatabase
from fundamentum.kinds.base import Context
from fundamentum.kinds.databases.way import TITLES, DatabaseNeed, best_way
from fundamentum.kinds.table_reader import Reader
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value

_NAME: Final = lazy_regex(r"[a-z][a-z0-9_]{0,30}")
_CHARACTER_SET: Final = lazy_regex(r"[A-Za-z][A-Za-z0-9_]{0,30}")


class DatabaseNameNeed(Value, frozen=True):
    """One database, by its name, on the server that another need is about."""

    name: str
    server: DatabaseNeed
    character_set: str = ""
    level: Level = "required"

    @property
    def key(self) -> NeedId:
        return NeedId(f"database-name:{self.name}")


def database_name(
    name: str | None, character_set: str | None, servers: Sequence[DatabaseNeed], reader: Reader
) -> Iterator[DatabaseNameNeed]:
    """The need of a database, if the table has one; it is on the first server that is required."""
    if character_set is not None and (name is None or not _CHARACTER_SET.fullmatch(character_set)):
        what = "is for the database that 'name' names" if name is None else f"'{character_set}' is no character set"
        reader.refuse(["database", "character_set"], what)
    if name is None:
        return
    if not _NAME.fullmatch(name):
        example = 'write small letters, digits and _, for example "nightlog"'
        reader.refuse(["database", "name"], f"'{name}' is no name of a database; {example}")
    if not servers:
        raise reader.error(["database", "name"], 'on which server? write required = ["mariadb >= 10.6"] or another')
    yield DatabaseNameNeed(name, servers[0], character_set or "")


def judged_name(need: DatabaseNameNeed, context: Context) -> Finding:
    """Whether the database and its user are there.  That is known only once the server itself was asked as root."""
    way = best_way(need.server, context)
    wanted = f"in {TITLES[way.product]}" + (f", {need.character_set}" if need.character_set else "")
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=wanted)
    change = PrepareDatabase(way.product, need.name, need.character_set, context.needs.name)
    elsewhere = any(database.chosen for database in context.survey.databases)
    if way.product == "sqlite":
        return replace(base, verdict="met", found="a file of the application's own")
    if change.answer in context.survey.answers:
        return replace(base, verdict="met", found=f"there, with the user {need.name}")
    words: dict[str, Any] = {"found": "not known before the server is asked as its administrator"}
    if elsewhere:
        return replace(base, remedy="; ".join(change.statements), **words)
    if way.product not in context.offers.platform.database_services:
        return replace(base, remedy=f"look for it, or let it be made: {'; '.join(change.statements)}", **words)
    remedy = "a plan's script asks, and makes both where they are not there"
    return replace(base, demands=(change,), remedy=remedy, **words)
