"""What another release of an application needs otherwise, for a person."""

from collections.abc import Sequence
from typing import Final

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from fundamentum.derive.release_differences import Changed
from fundamentum.derive.result import Entry
from fundamentum.kinds import in_words
from fundamentum.model.need_id import NeedId
from fundamentum.report.escape import clean
from fundamentum.report.styles import STYLES

TITLES: Final = (
    ("new", "needs these too", "unmet"),
    ("stronger", "requires what it only recommended", "unmet"),
    ("otherwise", "needs these otherwise", "recommended"),
    ("weaker", "only recommends what it required", "met"),
    ("gone", "needs these no more", "met"),
)


def write_differences(console: Console, old: str, new: str, changes: Sequence[Changed]) -> None:
    """The changes in groups, what asks for more first, each with its most telling place."""
    if not changes:
        console.print(Text(f"{clean(new)} needs what {clean(old)} does", style=STYLES["met"]))
        return
    console.print(Text(f"what {clean(new)} needs otherwise than {clean(old)}", style="bold"))
    for kind, title, style in TITLES:
        changeds = [change for change in changes if change.kind == kind]
        if changeds:
            console.print(Text(f"\n{title} ({len(changeds)})", style=STYLES[style]))
            console.print(Padding(_table(changeds), (0, 0, 0, 2)))


def _table(changes: Sequence[Changed]) -> Table:
    table = Table.grid(padding=(0, 2))
    for _ in range(2):
        table.add_column(overflow="fold")
    table.add_column(overflow="fold", ratio=1)
    for change in changes:
        now = change.new or change.old
        where = f"{now.places[0]} {now.places[0].what}" if now and now.places else ""
        reason = f"{now.rule}: {where}" if now and where else now.rule if now else ""
        table.add_row(clean(in_words(NeedId(change.key))), clean(_values(change)), Text(clean(reason), STYLES["dim"]))
    return table


def _values(change: Changed) -> str:
    if change.old is not None and change.new is not None:
        return f"{_value(change.old)} -> {_value(change.new)}"
    now = change.new or change.old
    return _value(now) if now else ""


def _value(entry: Entry) -> str:
    return f"{entry.level} {entry.value}".strip() if entry.kind != "php" else entry.value
