"""What was derived from an application, for a person: a summary, and everything about one need."""

from collections.abc import Sequence
from typing import Final

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from fundamentum.derive.result import Derived, Entry
from fundamentum.kinds import in_words
from fundamentum.report.escape import clean
from fundamentum.report.styles import STYLES

TITLES: Final = (
    ("required", "unmet", "required"),
    ("recommended", "recommended", "recommended"),
)
LISTED: Final = ("build", "extension", "absent", "library", "feature", "loader", "setting", "uploads", "database",
    "service", "host", "web_module", "unread")  # fmt: skip
ALSO: Final = (
    ("command", "runs these commands"),
    ("directory", "writes to these directories"),
    ("task", "is to be run at set times"),
    ("function", "calls these, which some hosts switch off"),
)


def write_derived(console: Console, derived: Derived) -> None:
    """The needs, each with its rule and its most telling place."""
    title = Text(clean(f"{derived.name} {derived.version}".strip()), style="bold")
    files = f"{derived.files} PHP file{'' if derived.files == 1 else 's'}, {_size(derived.size)}"
    title.append(f"  {files}; {derived.parsed} of them had to be parsed", STYLES["dim"])
    console.print(title)
    for entry in derived.of_kind("php"):
        line = Text(f"PHP {entry.value}", style="bold")
        line.append(clean(f"  {entry.rule}{_where(entry)}"), STYLES["dim"])
        console.print(line)
    wide = max((len(_name(entry)) for entry in derived.entries if entry.kind != "php"), default=0)
    for level, style, words in TITLES:
        chosen = [entry for entry in derived.entries if entry.level == level and entry.kind in LISTED]
        if chosen:
            console.print(Text(f"\n{words} ({len(chosen)})", style=STYLES[style]))
            console.print(Padding(_table(chosen, wide), (0, 0, 0, 2)))
    for kind, words in ALSO:
        entries = derived.of_kind(kind)
        if entries:
            console.print(Text(f"\n{words}", style=STYLES["dim"]))
            console.print(Padding(_table(entries, wide, rule=False), (0, 0, 0, 2)))
    if derived.left_out:
        names = ", ".join(clean(", ".join(entry.names)) for entry in derived.left_out)
        console.print(Text(f"\nseen, and no need: {names}", style=STYLES["dim"]))
    console.print(
        Text("\n--explain NAME shows every place and the reason; -o FILE writes the needs file", STYLES["dim"])
    )


def explained(derived: Derived, name: str) -> tuple[Entry, ...]:
    """The entries that a name means: ``gd``, ``memory_limit``, ``php``, ``extension:gd``."""
    wanted = name.lower().strip()
    entries = []
    for entry in (*derived.entries, *derived.left_out):
        names = {entry.kind, entry.key.lower()} if entry.kind == "php" else {entry.key.lower()}
        names |= {name.lower() for name in entry.names} | {f"{entry.kind}:{name.lower()}" for name in entry.names}
        if wanted in names:
            entries.append(entry)
    return tuple(entries)


def write_explained(console: Console, derived: Derived, entries: Sequence[Entry]) -> None:
    """Everything about these entries: level, rule, every place."""
    left_out = set(derived.left_out)
    for number, entry in enumerate(entries):
        if number:
            console.print()
        out = entry in left_out
        what = in_words(entry.key)
        line = Text(clean(what), style="bold")
        if out:
            line.append("  no need", STYLES["dim"])
        else:
            line.append(f"  {entry.level} ", STYLES["unmet" if entry.level == "required" else "recommended"])
            line.append(clean(entry.value), "bold")
        console.print(line)
        console.print(Text(clean(f"because: {entry.rule}")))
        if entry.files and entry.kind == "extension":
            files = "1 file speaks" if entry.files == 1 else f"{entry.files} files speak"
            console.print(Text(f"{files} of it; the places that were looked at closely:", style=STYLES["dim"]))
        for place in entry.places:
            line = Text("  " + clean(str(place)), STYLES["remedy"], overflow="fold")
            line.append("  " + clean(place.what), "default")
            line.append(f"  {clean(place.how)}" if place.how else "", "dim default")
            console.print(line, soft_wrap=True)


def _name(entry: Entry) -> str:
    words = ("uploads", "database", "service", "absent", "build", "library", "feature", "host", "web_module", "unread")
    if entry.kind == "build" and entry.names == ("thread_safe",):
        return f"{'a thread-safe' if entry.value == 'true' else 'no thread-safe'} build of PHP"
    if entry.kind == "build" and entry.names == ("preferred",):
        return clean(f"PHP {entry.value}, where several fit")
    names = " or ".join(entry.names) if entry.kind not in words else in_words(entry.key)
    value = "" if entry.kind in ("directory", "build", "unread") else entry.value
    if entry.kind == "database" and value:
        names, value = f"database {value.replace(' | ', ' or ')}", ""
    elif entry.kind in ("directory", "function") and entry.level == "required":
        value = f"{value} (required)".strip()
    return clean(f"{names} {value}".strip())


def _table(entries: Sequence[Entry], wide: int, *, rule: bool = True) -> Table:
    table = Table.grid(padding=(0, 2))
    table.add_column(overflow="fold", min_width=min(wide, 34), max_width=34)
    table.add_column(overflow="fold", ratio=1)
    for entry in entries:
        why = Text(clean(entry.rule) if rule else "")
        if entry.places:
            place = entry.places[0]
            why.append(("\n" if rule else "") + clean(f"{place} {place.what}"), STYLES["dim"])
        table.add_row(Text(_name(entry), style=STYLES["name"]), why)
    return table


def _where(entry: Entry) -> str:
    return f": {entry.places[0]} {entry.places[0].what}" if entry.places else ""


def _size(size: int) -> str:
    return f"{size / 1e6:.1f} MB" if size >= 100_000 else f"{size / 1e3:.0f} kB"
