"""Findings for a person at a terminal: what is wrong first, then what is fine in short, then what to do."""

import shlex
from collections import Counter
from collections.abc import Iterable, Sequence
from datetime import date
from typing import IO, Final, Literal

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from fundamentum.changes.packages import Install
from fundamentum.check.risks import risks
from fundamentum.kinds import kind_of
from fundamentum.model.findings import Finding, Judgement
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform
from fundamentum.report.chain_text import chain_lines
from fundamentum.report.escape import clean
from fundamentum.report.remarks import write_remarks
from fundamentum.report.styles import STYLES
from fundamentum.report.terminal import console_for, name_of

Detail = Literal["quiet", "usual", "verbose"]
LACKING: Final = {"unmet": "not met", "unknown": "cannot tell"}
"""What is told under a heading of its own, by its verdict."""


def write(
    stream: IO[str],
    judgements: Sequence[Judgement],
    survey: Survey,
    *,
    today: date,
    following: str = "",
    detail: Detail = "usual",
) -> None:
    """The remarks on standard error, and everything else to the stream; ``quiet``: a line for each application."""
    if detail == "quiet":
        for judgement in judgements:
            stream.write(clean(f"{judgement.needs.name} on {survey.server}: {summary(judgement)[0]}") + "\n")
        return
    write_remarks(survey, judgements)
    write_check(console_for(stream), judgements, survey, today=today, following=following, detail=detail)


def write_check(
    console: Console,
    judgements: Sequence[Judgement],
    survey: Survey,
    *,
    today: date,
    following: str = "",
    detail: Detail = "usual",
) -> None:
    """What is wrong first, then what is fine in short; last one command for all packages, and what to type next.

    ``following`` is that, where something is not met.
    """
    for number, judgement in enumerate(judgements):
        if number:
            console.print()
        _heading(console, judgement, survey)
        lacking = [finding for finding in judgement.findings if finding.verdict in LACKING]
        wide = max((len(name_of(finding.need)) for finding in lacking), default=0)
        room = 24 if any(finding.chain for finding in lacking) else 40  # a chain's lines are long
        for level, style in (("required", "unmet"), ("recommended", "recommended")):
            for verdict, title in LACKING.items():
                wrong = [finding for finding in lacking if (finding.level, finding.verdict) == (level, verdict)]
                if wrong:
                    console.print(Text(f"\n{level}, {title}", style=STYLES[style]))
                    console.print(Padding(_problems(wrong, min(wide, room)), (0, 0, 0, 2)))
        _command_line(console, judgement.command_line)
        _accepted(console, [finding for finding in judgement.findings if finding.verdict == "accepted"])
        _fine(console, [finding for finding in judgement.findings if finding.verdict == "met"], detail)
        _risks(console, judgement, survey, today)
    lacking = [finding for judgement in judgements for finding in judgement.all_findings if finding.verdict in LACKING]
    changes = {change for finding in lacking for change in finding.changes}
    packages = {change.package for change in changes if isinstance(change, Install) and not change.again}
    if packages:
        command = shlex.join(platform(survey.system.family).install(sorted(packages)))
        _last(console, "all packages at once", command)
    if lacking and following:
        _last(console, "next, for all of it", following)


def _last(console: Console, title: str, command: str) -> None:
    console.print(Text(f"\n{title}", style=STYLES["dim"]))
    console.print(Text(f"  {clean(command)}", style=STYLES["remedy"]), soft_wrap=True)  # so that it can be copied


def _heading(console: Console, judgement: Judgement, survey: Survey) -> None:
    needs, runtime = judgement.needs, judgement.target.runtime
    title = Text.assemble(
        (clean(f"{needs.name} {needs.version or ''}".strip()), "bold"), " on ", (clean(survey.server), "bold")
    )
    title.append(clean(f", {survey.system.name or 'unknown system'}"), STYLES["dim"])
    console.print(title)
    version = f"PHP {runtime.version}" if runtime.version else "not installed"
    part = f"; the worst of its sites is {judgement.target.part}" if judgement.target.part else ""
    words = f"judged: {runtime.label} ({version}), {judgement.target.reason}{part}"
    console.print(Text(clean(words), style=STYLES["dim"]))
    words, style = summary(judgement)
    console.print(Text(words, style=STYLES[style]))


def summary(judgement: Judgement) -> tuple[str, str]:
    """Whether an application runs, in a line, and the style of that line."""
    counts = Counter((finding.level, finding.verdict) for finding in judgement.all_findings)
    unmet, unknown = counts["required", "unmet"], counts["required", "unknown"]
    optional = counts["recommended", "unmet"] + counts["recommended", "unknown"]
    and_recommended = f", and {optional} recommended" if optional else ""
    if unmet:
        untold = f", {unknown} cannot be told" if unknown else ""
        return f"does not run here: {_many(unmet, 'required')} not met{untold}{and_recommended}", "unmet"
    if unknown:
        return (
            f"cannot tell whether it runs here: {_many(unknown, 'required')} not known to be met{and_recommended}",
            "unmet",
        )
    if optional:
        return f"runs here; {_many(optional, 'recommended')} not met", "recommended"
    accepted = sum(finding.verdict == "accepted" for finding in judgement.findings)
    rest = f"; {accepted} {'is' if accepted == 1 else 'are'} accepted as not met" if accepted else ""
    many = len(judgement.all_findings) - accepted
    if many == 1:
        return f"runs here: its only {'other ' if accepted else ''}need is met{rest}", "met"
    return f"runs here: {f'all {many}' if not accepted else many} needs are met{rest}", "met"


def _many(number: int, level: str) -> str:
    return f"{number} {level} {'need is' if number == 1 else 'needs are'}"


def _problems(findings: Iterable[Finding], wide: int) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(overflow="fold", min_width=wide, max_width=wide)
    table.add_column(overflow="fold", ratio=1)
    for finding in findings:
        what = Text()
        if finding.state:
            what.append(f"{finding.state}: ", style=STYLES["name"])
        wants_value = finding.need.kind not in ("extension", "loader")
        what.append(clean(f"wanted {finding.wanted}, found {finding.found}" if wants_value else finding.found or ""))
        if finding.origin and not finding.chain:
            what.append(clean(f"  {finding.origin}"), style=STYLES["dim"])
        if finding.chain:
            what.append("\n")
            what.append_text(chain_lines(finding))
        below = [(f"overrides {place}", "dim") for place in finding.overridden]
        below += [(f"note: {finding.remark}", "recommended")] if finding.remark else []
        narrow = dict.fromkeys(link.remedy for link in finding.chain if link.enough is False)
        after = [f"then {finding.then}"] if narrow and finding.then else []
        below += [(f"-> {advice}", "remedy") for advice in (*narrow, *after) or [finding.advice] if advice]
        below += [(f"for: {finding.note}", "dim")] if finding.note else []
        for line, style in below:
            what.append("\n" + clean(line), style=STYLES[style])
        table.add_row(Text(name_of(finding.need), style=STYLES["name"]), what)
    return table


def _command_line(console: Console, judgement: Judgement | None) -> None:
    """What the PHP lacks that runs the application's programs at set times."""
    if judgement is None:
        return
    wrong = [finding for finding in judgement.findings if finding.verdict in LACKING]
    runtime, style = judgement.target.runtime, STYLES["unmet"] if wrong else STYLES["met"]
    words = f"scheduled programs run on the command line ({runtime.label}): "
    words += f"{len(wrong)} of {len(judgement.findings)} needs not met" if wrong else "all that they need is there"
    console.print()
    console.print(Text(clean(words), style=style))
    if wrong:
        console.print(Padding(_problems(wrong, max(len(name_of(finding.need)) for finding in wrong)), (0, 0, 0, 2)))


def _accepted(console: Console, findings: Sequence[Finding]) -> None:
    """What is not met, and somebody has decided to live with."""
    if not findings:
        return
    console.print(Text(f"\nnot met, and accepted ({len(findings)})", style=STYLES["recommended"]))
    table = Table.grid(padding=(0, 2))
    table.add_column(overflow="fold")
    table.add_column(overflow="fold", ratio=1)
    for finding in findings:
        what = Text(clean(f"{finding.level}, {finding.state or finding.found or 'unknown'}"))
        if finding.acceptance:
            until = f", until {finding.acceptance.until}" if finding.acceptance.until else ""
            what.append("\n" + clean(f"by {finding.acceptance.by}{until}: {finding.acceptance.reason}"), STYLES["dim"])
        table.add_row(Text(name_of(finding.need), style=STYLES["name"]), what)
    console.print(Padding(table, (0, 0, 0, 2)))


def _fine(console: Console, findings: Sequence[Finding], detail: Detail) -> None:
    if not findings:
        return
    console.print(Text(f"\nmet ({len(findings)})", style=STYLES["met"]))
    if detail == "verbose":
        wide = max(len(name_of(finding.need)) for finding in findings)
        console.print(Padding(_problems(findings, min(wide, 40)), (0, 0, 0, 2)))
        return
    groups: dict[str, list[str]] = {}
    for finding in findings:
        kind = kind_of(finding.need)
        groups.setdefault(kind.heading(finding), []).append(kind.met_in_words(finding))
    table = Table.grid(padding=(0, 2))
    table.add_column(min_width=10)
    table.add_column(overflow="fold")
    for title, names_in_group in groups.items():
        table.add_row(Text(title, style=STYLES["dim"]), Text(clean(", ".join(names_in_group))))
    console.print(Padding(table, (0, 0, 0, 2)))
    for finding in findings:
        if finding.remark:
            console.print(
                Text(clean(f"  note: {name_of(finding.need)}: {finding.remark}"), style=STYLES["recommended"])
            )


def _risks(console: Console, judgement: Judgement, survey: Survey, today: date) -> None:
    """What is risky about the runtime, last: nothing here keeps the application from running."""
    risks_seen = risks(survey, judgement, today)
    if not risks_seen:
        return
    console.print(Text(f"\nrisky, whatever is needed ({len(risks_seen)})", style=STYLES["recommended"]))
    table = Table.grid(padding=(0, 2))
    table.add_column(overflow="fold")
    table.add_column(overflow="fold", ratio=1)
    for risk in risks_seen:
        what = Text(clean(risk.why))
        what.append(clean(f"  {risk.origin}") if risk.origin else "", STYLES["dim"])
        what.append("\n" + clean(f"-> {risk.remedy}"), STYLES["remedy"])
        table.add_row(Text(clean(f"{name_of(risk.about)} {risk.found}"), style=STYLES["name"]), what)
    console.print(Padding(table, (0, 0, 0, 2)))
