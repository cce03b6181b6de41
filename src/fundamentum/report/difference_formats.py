"""Two surveys side by side: as JSON, and for a person."""

from collections.abc import Sequence

import msgspec
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from fundamentum.check.survey_differences import Difference, grouped
from fundamentum.model.need_id import NeedId
from fundamentum.report.escape import clean
from fundamentum.report.styles import STYLES

FORMAT = 1


class DifferenceRow(msgspec.Struct):
    """One thing that is not the same on both sides."""

    where: str
    what: str
    first: str
    second: str
    origins: list[str]


class CompareDocument(msgspec.Struct):
    """The output of ``fundamentum compare --format json``."""

    format: int
    first: str
    second: str
    same: bool
    differences: list[DifferenceRow]


def compare_document(first: str, second: str, differences: Sequence[Difference]) -> CompareDocument:
    """All differences as a document."""
    rows = [
        DifferenceRow(difference.where, difference.what, difference.first, difference.second, list(difference.origins))
        for difference in differences
    ]
    return CompareDocument(FORMAT, first, second, not rows, rows)


def write_comparison(console: Console, first: str, second: str, differences: Sequence[Difference], about: str) -> None:
    """What differs, grouped by runtime; one line for each."""
    first, second = (
        (clean(first), clean(second)) if first != second else (f"{clean(first)} (1)", f"{clean(second)} (2)")
    )
    if not differences:
        console.print(Text(f"{first} and {second}: nothing differs that matters {about}", style=STYLES["met"]))
        return
    count = "1 difference" if len(differences) == 1 else f"{len(differences)} differences"
    console.print(
        Text.assemble(
            (f"{first} and {second}", "bold"), f": {count} that matter{'s' * (len(differences) == 1)} {about}"
        )
    )
    for where, ones in grouped(differences).items():
        console.print(Text("\n" + clean(where), style="bold"))
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style=STYLES["dim"])
        for title in ("", first, second):
            table.add_column(title, overflow="fold")
        for difference in ones:
            table.add_row(
                Text(_named(difference.what), STYLES["name"]),
                _side(difference.first, difference.origins[0]),
                _side(difference.second, difference.origins[1]),
            )
        console.print(Padding(table, (0, 0, 0, 2)))


def _named(what: str) -> str:
    need = NeedId(what)
    return clean(f"{need.kind} {' or '.join(need.names)}".strip())


def _side(value: str, origin: str) -> Text:
    text = Text(clean(value))
    if origin and origin != "built-in":
        text.append("\n" + clean(origin), STYLES["dim"])
    return text
