"""A plan for a person at a terminal: the decision first, then the steps with their reasons, then what stays open."""

import sys
from collections.abc import Iterable, Sequence
from datetime import date
from typing import IO, Final

from rich.console import Console
from rich.padding import Padding
from rich.syntax import Syntax
from rich.table import Table
from rich.text import Text

from fundamentum.changes.base import Change
from fundamentum.changes.file_operations import EditFile, WriteFile
from fundamentum.changes.packages import Install
from fundamentum.changes.primitives import DECIDED, InstallPackages
from fundamentum.changes.server_operations import SwitchInServer
from fundamentum.changes.steps import Step
from fundamentum.kinds import reason_in_words
from fundamentum.model.reason import Reason
from fundamentum.model.survey import Survey
from fundamentum.plan.made_plan import Decision, Plan, Row
from fundamentum.platforms import platform
from fundamentum.report.escape import clean
from fundamentum.report.remarks import write_remarks
from fundamentum.report.styles import STYLES
from fundamentum.report.terminal import console_for, name_of

SHOWN: Final = 10
"""No longer list of packages is shown in full."""
WIDE: Final = 40
"""What becomes of a thing is told in a line of its own where it has as many characters."""


def write(stream: IO[str], plan: Plan, survey: Survey | None, *, full: bool = False) -> None:
    """The remarks on standard error, where the plan is read at once, and the plan to the stream."""
    if stream is sys.stdout and survey:
        write_remarks(survey, plan.before)
    write_plan(console_for(stream), plan, full=full)


def write_plan(console: Console, plan: Plan, *, full: bool = False) -> None:
    """The plan on one page; with ``full``, lists of packages whole."""
    _heading(console, plan)
    if plan.decision:
        _decision(console, plan.decision)
    if plan.empty and plan.complete:
        console.print(Text("nothing to do: every required need is met", style=STYLES["met"]))
    for number, step in enumerate(plan.steps, 1):
        console.print(Text.assemble("\n", (f"{number}. ", "bold"), (clean(step.operation.title), "bold")))
        _step(console, plan, step, full)
    _outcome(console, plan)


def _heading(console: Console, plan: Plan) -> None:
    for application in plan.applications:
        title = (clean(f"{application.name} {application.version or ''}".strip()), "bold")
        on = (clean(plan.server), "bold")
        console.print(Text.assemble("plan for ", title, " on ", on, clean(f", {application.runtime}")))
        console.print(Text(clean(f"chosen: {application.reason}"), style=STYLES["dim"]))


def _decision(console: Console, decision: Decision) -> None:
    """The comparison, the row that was taken marked, and for every other what decided against it."""
    if len(decision.rows) > 1:
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style=STYLES["dim"])
        lacks = "lacks for all" if sum(len(row.chosen_for) for row in decision.rows) > 1 else "lacks"
        for title in ("", "PHP", "is", "fixed until", lacks, "packages", "serves now", "why"):
            table.add_column(title, overflow="fold")
        for row in decision.rows:
            style = STYLES["name"] if row.chosen_for else ""
            table.add_row(
                Text(">" if row.chosen_for else "", style=STYLES["met"]),
                Text(clean(row.name), style=style),
                "installed" if row.installed else "offered",
                clean(_support(row)),
                _lacks(row),
                _packages(row),
                clean(", ".join(row.sites)) or "-",
                Text(clean(_why_row(row)), style=STYLES["name"] if row.chosen_for else STYLES["dim"]),
            )
        console.print()
        console.print(table)
    chosen = [row.name for row in decision.rows if row.chosen_for]
    if decision.conflict:
        words = f"{', '.join(decision.conflict)}: {len(chosen)} branches, {' and '.join(chosen)}"
        console.print(Text(clean(words), style=STYLES["recommended"]))
    for line in decision.apart:
        console.print(Text(clean(f"{line}: a pool for each"), style=STYLES["recommended"]))


def _support(row: Row) -> str:
    until = row.supported_until.isoformat() if isinstance(row.supported_until, date) else "unknown"
    return f"{until}, {row.maintained_by} goes on" if row.maintained_by else until


def _packages(row: Row) -> str:
    and_removed = f", {len(row.removes)} go" if row.removes else ""
    return f"{row.installs}{and_removed}" if row.installs or and_removed else "-"


def _lacks(row: Row) -> str:
    parts = [
        f"{row.required} required" if row.required else "",
        f"{row.recommended} recommended" if row.recommended else "",
    ]
    return ", ".join(part for part in parts if part) or "nothing"


def _why_row(row: Row) -> str:
    return f"for {', '.join(row.chosen_for)}: {row.reason}" if row.chosen_for else row.reason


def _step(console: Console, plan: Plan, step: Step, full: bool) -> None:
    """One step: what is done, then a row for each change in it."""
    operation = step.operation
    if not isinstance(operation, WriteFile):
        for command in operation.commands(platform(plan.family)):
            _command(console, command)
    if isinstance(operation, EditFile):
        shown = "\n".join(clean(line) for line in operation.diff.splitlines())
        console.print(Padding(Syntax(shown, "diff", theme="ansi_dark", background_color="default"), (0, 0, 0, 3)))
    packages = isinstance(operation, InstallPackages)
    told = [change for change in step.changes if packages or change.effect or plan.why(change)]
    decided = operation.KIND in DECIDED
    _rows(console, (_row(plan, change) for change in told if len(change.effect) < WIDE and not decided))
    for change in told:
        if len(change.effect) >= WIDE and not decided:
            _aside(console, f"{change.about}: {change.effect}")
    for change in step.changes if decided or isinstance(operation, SwitchInServer) else ():
        if words := plan.consequences.get(change.key):
            _aside(console, words)
    if packages:
        _packages_beside(console, plan, full)


def _row(plan: Plan, change: Change) -> tuple[str, str, tuple[Reason, ...]]:
    """One change: what, how, why."""
    reasons = plan.why(change)
    if isinstance(change, Install):
        return change.about, plan.sources.get(change.package, ""), reasons
    return change.about, change.effect, reasons


def _packages_beside(console: Console, plan: Plan, full: bool) -> None:
    upgraded = {upgrade.package for upgrade in plan.upgrades}
    along = [name for name in plan.along if name not in upgraded]
    if along:
        _aside(console, f"with {'it' if len(plan.of(Install)) == 1 else 'them'}: {_listed(along, full)}")
    if plan.upgrades:
        words = [f"{upgrade.package} {upgrade.before} -> {upgrade.after}" for upgrade in plan.upgrades]
        _warn(console, f"upgrades: {_listed(words, full)}")
        lost = [upgrade.package for upgrade in plan.upgrades if not upgrade.back]
        if lost:
            _warn(console, f"cannot be taken back, since the version before is gone: {_listed(lost, full)}")
    if plan.fetch:
        _aside(console, f"{_megabytes(plan.fetch)} to fetch, {_megabytes(plan.space)} more on the disk")
    for aside in plan.asides:
        _warn(console, f"{aside.package} comes along: {aside.why}; {aside.instead}")


def _listed(words: Sequence[str], full: bool) -> str:
    """All of them if so wanted, else the first."""
    if full or len(words) <= SHOWN:
        return ", ".join(words)
    return f"{', '.join(words[: SHOWN - 2])} and {len(words) - SHOWN + 2} more (--full lists them)"


def _megabytes(size: int) -> str:
    return f"{size / 1e6:.1f} MB" if size < 1e7 else f"{size / 1e6:.0f} MB"


def _command(console: Console, command: str) -> None:
    console.print(Padding(Text(clean(command), style=STYLES["remedy"]), (0, 0, 0, 3)))


def _aside(console: Console, text: str) -> None:
    console.print(Padding(Text(clean(text), style=STYLES["dim"]), (0, 0, 0, 3)))


def _warn(console: Console, text: str) -> None:
    console.print(Padding(Text(clean(text), style=STYLES["recommended"]), (0, 0, 0, 3)))


def _rows(console: Console, rows: Iterable[tuple[str, str, Sequence[Reason]]]) -> None:
    table = Table.grid(padding=(0, 2))
    for _ in range(2):
        table.add_column(overflow="fold")
    table.add_column(overflow="fold", ratio=1)
    for name, detail, reasons in rows:
        words = "\n".join(clean(reason_in_words(reason)) for reason in reasons)
        table.add_row(clean(name), clean(detail), Text(words, style=STYLES["dim"]))
    console.print(Padding(table, (0, 0, 0, 3)))


def _others(console: Console, plan: Plan) -> None:
    """What other sites have otherwise afterwards, those with the same change together."""
    together: dict[tuple[str, str, str], list[str]] = {}
    for other in plan.others:
        together.setdefault((other.name, other.before, other.after), []).append(other.site)
    changes: dict[tuple[str, ...], list[str]] = {}
    for (name, before, after), sites in together.items():
        changes.setdefault(tuple(sites), []).append(f"{name} {before} -> {after}")
    if changes:
        console.print(Text("\nalso changes for others", style=STYLES["recommended"]))
    for where, what in changes.items():
        and_more = f" and {len(where) - 6} more" if len(where) > 6 else ""
        console.print(Padding(Text(clean(f"{', '.join(where[:6])}{and_more}: {', '.join(what)}")), (0, 0, 0, 2)))


def _outcome(console: Console, plan: Plan) -> None:
    _others(console, plan)
    for hint in plan.hints:
        console.print(Text(f"\n{clean(hint)}", style=STYLES["dim"]))
    console.print()
    if plan.unresolved:
        console.print(Text("not resolved by this plan", style=STYLES["unmet"]))
        for need in plan.unresolved:
            line = f"{need.application} {name_of(need.need)} ({need.level}): {need.why}"
            console.print(Padding(Text(clean(line)), (0, 0, 0, 2)))
    for application in plan.applications:
        style = STYLES["met"] if application.satisfied else STYLES["unmet"]
        line = f"afterwards: {application.met} of {application.needs} needs of {application.name} are met"
        line += f", {application.accepted} accepted as not met" if application.accepted else ""
        console.print(Text(clean(line), style=style))
