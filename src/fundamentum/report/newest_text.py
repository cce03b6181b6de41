"""Several releases of one application held against a server, for a person and as JSON."""

from collections.abc import Sequence
from typing import IO

import msgspec
from rich.table import Table
from rich.text import Text

from fundamentum.model.findings import Judgement
from fundamentum.report.checks.text import summary
from fundamentum.report.escape import as_json, clean
from fundamentum.report.styles import STYLES
from fundamentum.report.terminal import console_for
from fundamentum.report.written_text import write_out

FORMAT = 1


class Release(msgspec.Struct):
    """One release."""

    app: str
    """As it was named."""
    name: str
    version: str | None
    satisfied: bool
    lacks: list[str]
    """Required needs that are not met, or of which that cannot be told."""


class NewestDocument(msgspec.Struct):
    """The output of ``fundamentum check R1 R2 R3 --newest --format json``."""

    format: int
    server: str
    newest: str | None
    """The release, as it was named; null: none of them runs."""
    releases: list[Release]


def write_newest(
    stream: IO[str],
    words: Sequence[str],
    judgements: Sequence[Judgement],
    chosen: Judgement | None,
    server: str,
    *,
    as_document: bool,
) -> None:
    """A line for each release, then the newest that runs; as JSON where that is wanted."""
    taken = next((word for word, judged in zip(words, judgements, strict=True) if judged is chosen), None)
    if as_document:
        rows = [_row(word, judged) for word, judged in zip(words, judgements, strict=True)]
        write_out(as_json(NewestDocument(FORMAT, server, taken, rows)))
        return
    console = console_for(stream)
    table = Table.grid(padding=(0, 2))
    for _ in range(2):
        table.add_column(overflow="fold")
    for word, judgement in zip(words, judgements, strict=True):
        said, style = summary(judgement)
        table.add_row(clean(_title(word, judgement)), Text(clean(said), style=STYLES[style]))
    console.print(table)
    if chosen is None or taken is None:
        console.print(Text(f"none of them runs on {clean(server)}", style=STYLES["unmet"]))
    else:
        console.print(Text(f"the newest that runs on {clean(server)}: {clean(_title(taken, chosen))}", STYLES["met"]))


def _title(word: str, judgement: Judgement) -> str:
    needs = judgement.needs
    return f"{needs.name} {needs.version}" if needs.version else word


def _row(word: str, judgement: Judgement) -> Release:
    lacking = [
        finding.need
        for finding in judgement.all_findings
        if finding.level == "required" and finding.verdict in ("unmet", "unknown")
    ]
    return Release(word, judgement.needs.name, judgement.needs.version, judgement.satisfied, list(map(str, lacking)))
