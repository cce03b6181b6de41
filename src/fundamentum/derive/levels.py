"""From the verdicts on single extensions to needs: what is superfluous left out, alternatives put together."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog import branch_key, canonical, extension_gone
from fundamentum.catalog.symbols import EVERYWHERE, only_on_windows
from fundamentum.catalog.words import said
from fundamentum.derive.evidence import Whole
from fundamentum.derive.families import FAMILIES
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.rules import MAX_PLACES, Verdict
from fundamentum.model.needs_value import Level

_ANY_DATABASE: Final = "any one of these databases will do: which one is chosen"
_INSIDE_SINCE: Final = {"json": "8.0", "hash": "7.4"}
_IMPLIED: Final = {
    "libxml": ("dom", "simplexml", "xml", "xmlreader", "xmlwriter", "soap", "xsl"),
    "mysqlnd": ("mysqli", "pdo_mysql"),
    "pdo": tuple(name for name in FAMILIES["databases"] if name.startswith("pdo_")),
}
"""Always there where one of the others is: naming it would add nothing."""
_LIVE_ON: Final = frozenset({"imap", "pspell", "oci8", "pdo_oci", "xmlrpc"})
"""Gone from PHP itself, and alive as separate packages."""


def entries(whole: Whole, verdicts: Sequence[Verdict], lowest: str) -> tuple[list[Entry], list[Entry]]:
    """The needs, alternatives put together, and what was seen and is none."""
    by_name = {one.extension: one for one in verdicts}
    left_out: list[Entry] = []
    for name, one in list(by_name.items()):
        reason = _superfluous(name, by_name, lowest) or ("" if one.level else one.rule)
        if reason:
            del by_name[name]
            if one.places:
                left_out.append(_entry((name,), "recommended", reason, [one]))
    out: list[Entry] = []
    for one in list(by_name.values()):
        names = tuple(name for name in one.among if name in by_name and not extension_gone(name, "99.0"))
        if one.extension in names and len(names) > 1:
            members = [by_name.pop(name) for name in names]
            out.append(_entry(names, "required", "the program stops where all of these are missing", members))
        elif one.among and extension_gone(one.extension, "99.0"):
            del by_name[one.extension]
    for title, family in FAMILIES.items():
        members = [by_name[name] for name in family if name in by_name]
        for group in _groups(title, members, whole):
            names = tuple(one.extension for one in group[1])
            out.append(_entry(names, group[0], group[2], group[1]))
            for name in names:
                del by_name[name]
    out += [_entry((name,), one.level or "recommended", one.rule, [one]) for name, one in by_name.items()]
    return list(_by_their_names(sorted(out, key=lambda entry: (entry.level != "required", entry.names)))), left_out


def _by_their_names(needed: Iterable[Entry]) -> Iterator[Entry]:
    """The needs by the names that needs files have for extensions, each once: ``libsodium`` is ``sodium`` too."""
    seen: set[tuple[str, ...]] = set()
    for entry in needed:
        names = tuple(dict.fromkeys(canonical(said("extensions").get(name, name)) for name in entry.names))
        if names not in seen:
            seen.add(names)
            yield replace(entry, names=names)


def _groups(title: str, members: list[Verdict], whole: Whole) -> Iterable[tuple[Level, list[Verdict], str]]:
    """Members of a family that stand for each other."""
    loose = [one for one in members if not one.stated]
    if len(loose) < 2 and title != "databases":
        return
    plain = [one for one in loose if one.plain]
    if title == "databases":
        yield from _databases(members, whole)
        return
    if plain:
        optional = [one for one in loose if not one.plain and one.level == "recommended"]
        if title == "caches" and len(optional) > 1:
            yield "recommended", optional, f"any one of these {title} will do"
        return
    yield "recommended", loose, f"any one will do for {title}: each is used only where it is there or chosen"


def _databases(members: list[Verdict], whole: Whole) -> Iterable[tuple[Level, list[Verdict], str]]:
    """An application that can use several databases needs one of them; one that can use only one needs that."""
    if any(one.stated and one.level == "required" for one in members):
        return
    current = [one for one in members if not extension_gone(one.extension, "99.0") or one.extension in _LIVE_ON]
    uses = {
        one.extension: [u for u in whole.uses(one.extension) if u.file.part in ("own", "optional")] for one in current
    }
    current = [one for one in current if uses[one.extension]]
    plain = [one for one in current if one.plain]
    vendors = {_vendor(one.extension) for one in plain or current}
    beside = {u.file.path for one in plain for u in uses[one.extension] if u.plain}
    with_choice = [
        one
        for one in current
        if one in plain or any(u.file.path in beside and u.guard == "chosen" for u in uses[one.extension])
    ]
    if plain and len(with_choice) > len(plain):
        yield "required", with_choice, _ANY_DATABASE
        return
    if not current or (plain and len(vendors) == 1):
        return  # one is used everywhere; what else there is belongs to parts that are chosen
    files = {u.file.path for one in current for u in uses[one.extension]}
    chosen = any(u.guard not in ("checked", "caught") for one in current for u in uses[one.extension])
    level: Level = "recommended"
    connects = any(one.plain and one.use.kind == "class" for one in whole.uses("pdo"))
    direct = any(
        not u.driver and u.file.part == "own" and (connects or u.use.kind != "connection")
        for one in current
        for u in uses[one.extension]
    )
    if plain or (chosen and (direct if len(vendors) == 1 else connects or len(files) >= 3)):
        level = "required"
    if len(current) == 1:
        if level == "required":
            yield level, current, "the only database that the application can use"
        return
    yield level, current, _ANY_DATABASE


def _vendor(extension: str) -> str:
    return {"mysqli": "mysql", "sqlite3": "sqlite"}.get(extension, extension.removeprefix("pdo_"))


def _superfluous(name: str, by_name: dict[str, Verdict], lowest: str) -> str:
    since = _INSIDE_SINCE.get(name)
    if since and lowest and branch_key(lowest) >= branch_key(since):
        return f"part of PHP itself since {since}"
    if name in EVERYWHERE and name not in _INSIDE_SINCE:
        return "part of every PHP"
    if only_on_windows(name):
        return "exists for Windows only"
    gone = extension_gone(name, "99.0")
    if gone and name not in _LIVE_ON and not (by_name[name].stated and by_name[name].level == "required"):
        return f"gone from PHP since {gone}: code that uses it runs on older branches only"
    others = _IMPLIED.get(name, ())
    if any(other in by_name and by_name[other].level for other in others):
        return "always there with " + " or ".join(other for other in others if other in by_name)
    return ""


def _entry(names: tuple[str, ...], level: Level, rule: str, verdicts: Sequence[Verdict]) -> Entry:
    places: list[Place] = []
    longest = max(len(one.places) for one in verdicts) if verdicts else 0
    for at in range(longest):
        places += [one.places[at] for one in verdicts if at < len(one.places)]
    return Entry(
        "extension", names, level, "", rule, tuple(places[: MAX_PLACES * 2]), max(one.files for one in verdicts)
    )
