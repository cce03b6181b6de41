"""What a server serves, for a person: a line for each site; or what could be done where it serves nothing."""

from collections.abc import Sequence
from typing import IO

from rich.table import Table
from rich.text import Text

from fundamentum.model.findings import Judgement
from fundamentum.model.needs import Needs
from fundamentum.model.served import Served
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers
from fundamentum.report.checks.text import summary
from fundamentum.report.escape import clean
from fundamentum.report.styles import STYLES
from fundamentum.report.terminal import console_for


def write_served(
    stream: IO[str],
    survey: Survey,
    judged: Sequence[tuple[Served, Needs, Judgement]],
    others: Sequence[Served],
    offers: Offers,
) -> None:
    """The sites by their names, those of which nothing can be told behind the others."""
    console = console_for(stream)
    if not judged and not others:
        _nothing(stream, survey, offers)
        return
    table = Table.grid(padding=(0, 2))
    for _ in range(3):
        table.add_column(overflow="fold")
    for served, needs, judgement in judged:
        words, style = summary(judgement)
        title = f"{needs.name} {needs.version or ''}".strip()
        table.add_row(clean(served.site), clean(f"{title} in {served.folder}"), Text(clean(words), style=STYLES[style]))
    for served in others:
        table.add_row(
            clean(served.site), clean(served.folder or served.root), Text(clean(served.why), style=STYLES["dim"])
        )
    console.print(table)


def _nothing(stream: IO[str], survey: Survey, offers: Offers) -> None:
    """What is there, what this release offers, and the next command."""
    console = console_for(stream)
    console.print(Text(f"{clean(survey.server)}: no site here is handed to PHP", style="bold"))
    there = ", ".join(runtime.label for runtime in survey.runtimes)
    console.print(Text(f"PHP here: {clean(there) or 'none'}"))
    offered = ", ".join(offers.branches("fpm"))
    console.print(Text(f"on offer: PHP {clean(offered)}" if offered else "on offer: no PHP that is known"))
    console.print(Text("next", style=STYLES["dim"]))
    console.print(Text("  fundamentum plan APP --site NAME --directory DIR", style=STYLES["remedy"]))
