"""From the verdicts on single extensions to needs: what is superfluous left out, alternatives put together."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog import branch_key, canonical, extension_gone
from fundamentum.catalog.symbols import EVERYWHERE, known_extensions, only_on_windows
from fundamentum.catalog.words import said
from fundamentum.derive.families import FAMILIES, LIVE_ON
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.weighing.databases import alternative_databases
from fundamentum.derive.weighing.evidence import Evidence
from fundamentum.derive.weighing.weigh import MAX_PLACES, Verdict
from fundamentum.model.needs_value import Level

_INSIDE_SINCE: Final = {"json": "8.0", "hash": "7.4"}
_IMPLIED: Final = {
    "libxml": ("dom", "simplexml", "xml", "xmlreader", "xmlwriter", "soap", "xsl"),
    "mysqlnd": ("mysqli", "pdo_mysql"),
    "pdo": tuple(name for name in FAMILIES["databases"] if name.startswith("pdo_")),
}
"""Always there where one of the others is: naming it would add nothing."""
LOADER: Final = " loader"
"""Ends what an extension is called that reads encoded files."""


def entries(evidence: Evidence, verdicts: Sequence[Verdict], lowest: str) -> tuple[list[Entry], list[Entry]]:
    """The needs, alternatives put together, and what was seen and is none."""
    by_name = {verdict.extension: verdict for verdict in verdicts}
    by_name |= {verdict.extension: verdict for verdict in _only_ways_left(by_name)}
    left_out: list[Entry] = []
    for name, verdict in list(by_name.items()):
        reason = _superfluous(name, by_name, lowest) or ("" if verdict.level else verdict.rule)
        if reason:
            del by_name[name]
            if verdict.places:
                left_out.append(_entry((name,), "recommended", reason, [verdict]))
    out = list(_any_one_of(by_name))
    for title, family in FAMILIES.items():
        members = [by_name[name] for name in family if name in by_name]
        for group in _groups(title, members, evidence):
            names = tuple(verdict.extension for verdict in group[1])
            out.append(_entry(names, group[0], group[2], group[1]))
            for name in names:
                by_name.pop(name, None)
    out += [
        _entry((name,), verdict.level or "recommended", verdict.rule, [verdict]) for name, verdict in by_name.items()
    ]
    return list(_by_their_names(sorted(out, key=lambda entry: (entry.level != "required", entry.names)))), left_out


def _only_ways_left(by_name: dict[str, Verdict]) -> Iterator[Verdict]:
    """Extensions in whose absence the program takes one that PHP has no more: without them nothing is left to take."""
    for verdict in list(by_name.values()):
        if verdict.level != "required" or not verdict.among or not _gone(verdict.extension):
            continue
        left = [name for name in verdict.among if name in by_name and not _gone(name)]
        if len(left) == 1 and by_name[left[0]].level == "recommended":
            rule = f"what is used in its absence, {verdict.extension}, is gone from PHP"
            yield replace(by_name[left[0]], level="required", rule=rule)


def _gone(extension: str) -> bool:
    return extension not in LIVE_ON and bool(extension_gone(extension, "99.0"))


def _any_one_of(by_name: dict[str, Verdict]) -> Iterator[Entry]:
    """The extensions without all of which the program stops or refuses; taken out of those that stand alone."""
    for verdict in list(by_name.values()):
        there = [name for name in verdict.among if name in by_name]
        there = [name for name in there if name in known_extensions()] or there
        names = tuple(name for name in there if not _gone(name))
        needed = [name for name in names if _needed_alone(by_name[name])]
        if len(needed) > 1 and set(needed) <= set(FAMILIES["databases"]):
            needed = []  # the program itself says that one is enough: it is chosen where nobody sees it
        if verdict.extension in names and len(names) > 1 and needed:
            rule = f"one of several ways, of which {' and '.join(needed)} is needed anyway"
            for name in names:
                alone = replace(by_name[name], among=())
                by_name[name] = alone if name in needed else replace(alone, level="recommended", rule=rule)
        elif verdict.extension in names and len(names) > 1:
            who = "the program stops" if verdict.level == "required" else "a part of the program refuses"
            rule = f"{who} where all of these are missing"
            yield _entry(names, verdict.level or "recommended", rule, [by_name.pop(name) for name in names])
            for name in filter(_of_no_use, verdict.among):
                by_name.pop(name, None)
        elif verdict.among and verdict.extension not in names and _of_no_use(verdict.extension):
            by_name.pop(verdict.extension, None)


def _needed_alone(verdict: Verdict) -> bool:
    """Whether an extension is needed whatever could stand in for it at one place."""
    stated = verdict.stated and verdict.level == "required" and not verdict.among
    return (verdict.plain and not verdict.chosen) or stated


def _of_no_use(extension: str) -> bool:
    """Whether no PHP to come has it, or none that is known."""
    return bool(extension_gone(extension, "99.0")) or extension not in known_extensions()


def _by_their_names(needed: Iterable[Entry]) -> Iterator[Entry]:
    """The needs by the names that needs files have for extensions, each once: ``libsodium`` is ``sodium`` too."""
    seen: set[tuple[str, ...]] = set()
    for entry in needed:
        names = tuple(dict.fromkeys(canonical(said("extensions").get(name, name)) for name in entry.names))
        if names not in seen:
            seen.add(names)
            loader = len(names) == 1 and names[0].endswith(LOADER)
            yield replace(entry, kind="loader", names=(names[0].title(),)) if loader else replace(entry, names=names)


def _groups(title: str, members: list[Verdict], evidence: Evidence) -> Iterable[tuple[Level, list[Verdict], str]]:
    """Members of a family that stand for each other."""
    loose = [member for member in members if not member.stated]
    if len(loose) < 2 and title != "databases":
        return
    plain = [verdict for verdict in loose if verdict.plain]
    if title == "databases":
        yield from alternative_databases(members, evidence)
        return
    if plain and all(verdict.chosen for verdict in plain):
        yield "required", loose, f"what the application is about, and any one will do for {title}"
        return
    if plain:
        optional = [verdict for verdict in loose if not verdict.plain and verdict.level == "recommended"]
        if title == "caches" and len(optional) > 1:
            yield "recommended", optional, f"any one of these {title} will do"
        return
    yield "recommended", loose, f"any one will do for {title}: each is used only where it is there or chosen"


def _superfluous(name: str, by_name: dict[str, Verdict], lowest: str) -> str:
    since = _INSIDE_SINCE.get(name)
    if since and lowest and branch_key(lowest) >= branch_key(since):
        return f"part of PHP itself since {since}"
    if name in EVERYWHERE and name not in _INSIDE_SINCE:
        return "part of every PHP"
    if only_on_windows(name):
        return "exists for Windows only"
    gone = extension_gone(name, "99.0")
    if gone and name not in LIVE_ON and not (by_name[name].stated and by_name[name].level == "required"):
        return f"gone from PHP since {gone}: code that uses it runs on older branches only"
    if name not in known_extensions() and by_name[name].level != "required" and not by_name[name].stated:
        return "only asked for, and no PHP that is known has it"
    others = _IMPLIED.get(name, ())
    if any(other in by_name and by_name[other].level for other in others):
        return "always there with " + " or ".join(other for other in others if other in by_name)
    return ""


def _entry(names: tuple[str, ...], level: Level, rule: str, verdicts: Sequence[Verdict]) -> Entry:
    places: list[Place] = []
    longest = max(len(verdict.places) for verdict in verdicts) if verdicts else 0
    for at in range(longest):
        places += [verdict.places[at] for verdict in verdicts if at < len(verdict.places)]
    return Entry(
        "extension", names, level, "", rule, tuple(places[: MAX_PLACES * 2]), max(verdict.files for verdict in verdicts)
    )
