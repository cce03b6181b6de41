"""What a needs file says, for a person: each need in words, with its level and its reason."""

from collections.abc import Iterator, Sequence

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from fundamentum.catalog import HARVESTED, catalogued, facts
from fundamentum.catalog.near import near
from fundamentum.catalog.symbols import known_extensions
from fundamentum.kinds import kind_of
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import LEVELS, Need, Needs, PhpNeed
from fundamentum.report.escape import clean
from fundamentum.report.styles import STYLES


def write_needs(console: Console, applications: Sequence[Needs]) -> None:
    """Every application with its needs, the required ones first, and what may be misspelt."""
    for number, needs in enumerate(applications):
        if number:
            console.print()
        console.print(Text(clean(f"{needs.name} {needs.version or ''}".strip()), style="bold"))
        shown = [need for need in needs.needs if need != PhpNeed()]
        for level in LEVELS:
            mine = [need for need in shown if need.level == level]
            if mine:
                console.print(Text(f"\n{level} ({len(mine)})", style=STYLES["dim"]))
                console.print(Padding(_table(mine, needs), (0, 0, 0, 2)))
        if remarks := list(doubts(needs)):
            console.print(Text(f"\nmay be misspelt ({len(remarks)})", style=STYLES["recommended"]))
            for remark in remarks:
                console.print(Text(f"  {clean(remark)}"), soft_wrap=True)
        console.print(Text(f"\nunderstood: {len(shown)} needs", style=STYLES["met"]))


def _table(wanted: Sequence[Need], needs: Needs) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(overflow="fold")
    table.add_column(overflow="fold", ratio=1)
    for need in wanted:
        what = Text(clean(_text(need)))
        if note := needs.note(need.key):
            what.append(clean(f"{'  ' if what.plain else ''}for: {note}"), style=STYLES["dim"])
        table.add_row(Text(clean(kind_of(need.key).words(need.key)), style=STYLES["name"]), what)
    return table


def _text(need: Need) -> str:
    """What a need asks, as it is written or in words."""
    if isinstance(need, PhpNeed):
        return f"{need.versions}" + (f", preferably {need.preferred}" if need.preferred else "")
    condition = getattr(need, "condition", None)
    if hasattr(condition, "text"):
        return str(condition.text)  # type: ignore[union-attr]
    text = getattr(need, "text", "")
    if text:
        return str(text)
    way = {"web": "for pages only", "command_line": "on the command line only"}.get(getattr(need, "way", ""), "")
    versions = getattr(need, "versions", ())
    named = zip(getattr(need, "names", ()), versions, strict=False)
    words = " or ".join(f"{name} {versions_of}".removesuffix(" any") for name, versions_of in named)
    return "  ".join(part for part in (words, way) if part)


def doubts(needs: Needs) -> Iterator[str]:
    """Names that no PHP known here has, and one that is much like it: a slip of the fingers, or something rare."""
    extensions = set(known_extensions()).union(*(catalogued(branch) for branch in HARVESTED))
    directives = {name for branch in HARVESTED for name in facts(branch).directives}
    for need in needs.needs:
        key = NeedId(need.key)
        known = {"extension": extensions, "setting": directives}.get(key.kind)
        for name in key.names if known else ():
            if known and name not in known and (like := near(name, known)):
                yield f"{key.kind} {name}: did you mean {like}?"
