"""One extension, setting or package in full, for a person."""

import shlex
from collections.abc import Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from fundamentum.check.install_line import InstallLine
from fundamentum.check.trace import InRuntime, Source, Trace, Wanted
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers
from fundamentum.report.escape import clean
from fundamentum.report.styles import STYLES

MAX_SOURCES = 12


def write_traces(console: Console, traces: Sequence[Trace], server: str) -> None:
    """Everything that is known, one kind after the other."""
    for number, trace in enumerate(traces):
        if number:
            console.print()
        console.print(Text.assemble((clean(f"{trace.kind} {trace.name}"), "bold"), clean(f" on {server}")))
        for fact in trace.facts:
            console.print(Text("  " + clean(fact), STYLES["dim"]), soft_wrap=True)
        for runtime in trace.runtimes:
            _runtime(console, runtime)
        if trace.sources:
            console.print(Text("\npackages", style="bold"))
            console.print(_sources(trace.sources[:MAX_SOURCES]))
            if len(trace.sources) > MAX_SOURCES:
                console.print(Text(f"  and {len(trace.sources) - MAX_SOURCES} more", STYLES["dim"]))
        if trace.wanted_by:
            console.print(Text("\nneeded by", style="bold"))
            for wish in trace.wanted_by:
                console.print(_wanted(wish), soft_wrap=True)


def write_line(console: Console, install_line: InstallLine, survey: Survey, offers: Offers) -> None:
    """The packages of a guide's line, each with what it is here; and the line to use instead."""
    title = Text.assemble(("an install line", "bold"), clean(f" on {survey.server}, for PHP {install_line.branch}"))
    console.print(title)
    table = Table.grid(padding=(0, 2))
    for _ in range(2):
        table.add_column()
    table.add_column(overflow="fold", ratio=1)
    for part in install_line.parts:
        style = STYLES["met"] if part.state in ("installed", "installable", "inside") else STYLES["recommended"]
        table.add_row(clean(f"  {part.word}"), Text(part.state.replace("-", " "), style=style), Text(clean(part.why)))
    console.print(table)
    if install_line.packages:
        console.print(Text("\nthe line for this server", style=STYLES["dim"]))
        command = shlex.join(offers.platform.install(install_line.packages))
        console.print(Text(f"  {clean(command)}", style=STYLES["remedy"]), soft_wrap=True)
    else:
        console.print(Text("\nnothing of it is left to install here", style=STYLES["met"]))


def _runtime(console: Console, in_runtime: InRuntime) -> None:
    line = Text("\n" + clean(in_runtime.runtime), style="bold")
    line.append("  " + clean(in_runtime.now), "not bold")
    console.print(line, soft_wrap=True)
    for place in in_runtime.places:
        text = Text("  " + ("-> " if place.wins else "   "), STYLES["met"] if place.wins else STYLES["dim"])
        text.append(clean(place.where), STYLES["remedy"] if place.wins else STYLES["dim"])
        text.append("  " + clean(place.says), "default" if place.wins else "dim")
        console.print(text, soft_wrap=True)
    if in_runtime.remedy:
        console.print(Text(f"     {clean(in_runtime.remedy)}", STYLES["remedy"]), soft_wrap=True)


def _sources(sources: Sequence[Source]) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(width=0)
    for _ in range(3):
        table.add_column(overflow="fold")
    for source in sources:
        branch = f"for PHP {source.branch}, " if source.branch else ""
        table.add_row(
            "", clean(source.package), clean(source.version), Text(clean(branch + source.origin), STYLES["dim"])
        )
    return table


def _wanted(wanted: Wanted) -> Text:
    text = Text("  " + clean(wanted.application), style=STYLES["name"])
    text.append(clean(f"  {wanted.level}: {wanted.wanted}"), "not bold")
    text.append(clean(f"  {wanted.why}") if wanted.why else "", "dim not bold")
    return text
