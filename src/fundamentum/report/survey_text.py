"""A survey for a person: what runs PHP on a server, for which sites, and what is odd about it, on one screen."""

from collections.abc import Iterable
from datetime import UTC, date, datetime
from typing import IO, Final

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from fundamentum.catalog import security_ends
from fundamentum.model.php import Branch, Runtime
from fundamentum.model.survey import Survey
from fundamentum.report.escape import clean
from fundamentum.report.styles import STYLES
from fundamentum.report.terminal import console_for

MAX_ROWS: Final = 12
"""As many runtimes, and as many sites, are shown; of more than these the number."""
MAX_NAMES: Final = 8
LIMITS: Final = (("memory_limit", "memory"), ("upload_max_filesize", "upload"), ("post_max_size", "post"))


def write_survey(stream: IO[str], survey: Survey, today: date) -> None:
    """One screen about a server."""
    console = console_for(stream)
    system = ", ".join(part for part in (survey.system.name or "unknown system", survey.system.architecture) if part)
    console.print(Text.assemble((clean(survey.server), "bold"), f"  {clean(system)}"))
    console.print(_facts(survey, today))
    if not survey.runtimes:
        console.print(Text("\nno PHP was found here", style=STYLES["recommended"]))
        return
    console.print()
    console.print(_runtimes(survey.runtimes[:MAX_ROWS]))
    _rest(console, survey.runtimes, "runtimes")
    if oddities := list(_oddities(survey)):
        console.print(Text("\n" + "\n".join(map(clean, oddities)), style=STYLES["recommended"]))
    if survey.sites:
        console.print()
        console.print(_sites(survey))
        _rest(console, survey.sites, "sites")


def _facts(survey: Survey, today: date) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(style=STYLES["dim"])
    table.add_column(overflow="fold")
    if survey.taken:
        at = datetime.fromtimestamp(survey.taken, tz=UTC).strftime("%Y-%m-%d %H:%M UTC")
        whom = {"root": ", as root", "user": ", not as root: what only root may read is missing"}.get(survey.reader, "")
        table.add_row("looked at", f"{at}{whom}")
    if survey.installed is None:
        packages = "what is installed and what could be is unknown"
    else:
        held = [package.name for package in survey.installed if package.held]
        packages = f"{len(survey.installed)} installed" + (f", held: {_some(held)}" if held else "")
        offers = "what could be installed is unknown" if survey.offers is None else f"{len(survey.offers)} on offer"
        packages += f"; {offers}" + (" that concern PHP" if survey.offers else "")
    table.add_row("packages", clean(packages))
    sources = [repository.name for repository in survey.repositories]
    if sources:
        table.add_row("from", clean(_some(sources)))
    plain = next((runtime for runtime in survey.runtimes if runtime.plain), None)
    for branch in survey.branches:
        about = _build(branch)
        ends = security_ends(branch.branch)
        if ends:
            about += f"; the PHP project's security fixes {'ended' if ends < today else 'end'} {ends}"
        if plain and (plain.branch, plain.home) == (branch.branch, branch.home):
            about += "; what 'php' runs on the command line"
        table.add_row(f"PHP {branch.branch}", clean(about))
    return table


def _build(branch: Branch) -> str:
    parts = [f"in {branch.home}" if branch.home else "", branch.system if branch.system != "Linux" else ""]
    parts += ["thread-safe" if branch.thread_safe else "", "debug build" if branch.debug else "", branch.compiler]
    words = ", ".join(part for part in parts if part)
    number = len(branch.modules)
    extensions = f"{number} extension {'file' if number == 1 else 'files'}" if number else "extension files unknown"
    return f"{words}, {extensions}" if words else extensions


def _runtimes(runtimes: Iterable[Runtime]) -> Table:
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style=STYLES["dim"])
    limits = (short for _, short in LIMITS)
    for title in ("runtime", "version", "web", "loaded", *limits, "runs since", "configuration"):
        table.add_column(title, overflow="fold")
    for runtime in runtimes:
        loaded = sum(extension.fault is None for extension in runtime.extensions)
        since = date.fromtimestamp(runtime.started).isoformat() if runtime.started else "-"
        if runtime.stale:
            since += ", restart due"
        table.add_row(
            Text(clean(runtime.label), style=STYLES["name"]),
            clean(runtime.version or "?"),
            Text("yes", style=STYLES["met"]) if runtime.serves else "no",
            str(loaded),
            *(_limit(runtime, name) for name, _ in LIMITS),
            Text(since, style=STYLES["recommended"] if runtime.stale else ""),
            clean(runtime.ini_file or "no php.ini"),
        )
    return table


def _limit(runtime: Runtime, name: str) -> str:
    setting = runtime.settings.get(name)
    return clean(setting.value) if setting and setting.value is not None else "?"


def _oddities(survey: Survey) -> Iterable[str]:
    """What a person would want to know without having asked."""
    by_path: dict[str, list[str]] = {}
    for runtime in survey.runtimes:
        if runtime.stale:
            and_more = f" and {len(runtime.stale) - 1} more" if len(runtime.stale) > 1 else ""
            by_path.setdefault(f"restart due: {runtime.stale[0]}{and_more} changed since", []).append(runtime.label)
        for extension in runtime.extensions:
            if extension.fault:
                by_path.setdefault(f"cannot load {extension.shown}: {extension.fault.words}", []).append(runtime.label)
    rows = list(by_path.items())
    yield from (f"{_some(labels)}: {what}" for what, labels in rows[:MAX_NAMES])
    if len(rows) > MAX_NAMES:
        yield f"and {len(rows) - MAX_NAMES} more of the kind"


def _sites(survey: Survey) -> Table:
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style=STYLES["dim"])
    for title in ("site", "by", "runs on", "from", "set up in"):
        table.add_column(title, overflow="fold")
    for site in survey.sites[:MAX_ROWS]:
        name = f"{site.name} {site.part}" if site.part else site.name
        runtime = Text(clean(site.runtime)) if site.runtime else Text("unknown", style=STYLES["recommended"])
        table.add_row(
            Text(clean(name), style=STYLES["name"]),
            site.server,
            runtime,
            clean(site.root or "?"),
            clean(str(site.origin)),
        )
    return table


def _rest(console: Console, rows: tuple[object, ...], what: str) -> None:
    if len(rows) > MAX_ROWS:
        console.print(Padding(Text(f"and {len(rows) - MAX_ROWS} more {what}", style=STYLES["dim"]), (0, 0, 0, 2)))


def _some(names: list[str]) -> str:
    and_more = f" and {len(names) - MAX_NAMES} more" if len(names) > MAX_NAMES else ""
    return ", ".join(names[:MAX_NAMES]) + and_more
