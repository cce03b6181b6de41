"""How strongly each extension is needed: the rules, in the order in which they decide."""

from collections.abc import Callable, Iterable, Sequence
from typing import Final

import msgspec

from fundamentum.catalog import branch_key, extension_gone
from fundamentum.catalog.symbols import EVERYWHERE, only_on_windows
from fundamentum.derive.evidence import Seen, Whole
from fundamentum.derive.facts import Check
from fundamentum.derive.families import FAMILIES
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.tree import SourceFile
from fundamentum.needs.model import Level

MAX_PLACES: Final = 12
_ANY_DATABASE: Final = "any one of these databases will do: which one is chosen"
CENTRAL: Final = 0.5
"""The share of an application's files from which on an extension is what it is about."""
_TOOLS: Final = frozenset(
    "xdebug pcov uopz ast tideways_xhprof xhprof excimer wmerrors pinba xcache apc suhosin ice guestfs_php psr".split()
)
"""Tools for developers, and extensions that no application is helped by: asking for them means something else."""
_HOW: Final = {
    "checked": "behind a check",
    "caught": "its failure is caught",
    "explained": "its absence is explained",
    "chosen": "chosen by configuration",
    "version": "behind a test of PHP's version",
}
_INSIDE_SINCE: Final = {"json": "8.0", "hash": "7.4"}
_IMPLIED: Final = {
    "libxml": ("dom", "simplexml", "xml", "xmlreader", "xmlwriter", "soap", "xsl"),
    "mysqlnd": ("mysqli", "pdo_mysql"),
    "pdo": tuple(name for name in FAMILIES["databases"] if name.startswith("pdo_")),
}
_LIVE_ON: Final = frozenset({"imap", "pspell", "oci8", "pdo_oci", "xmlrpc"})
"""Gone from PHP itself, and alive as separate packages."""
"""Always there where one of the others is: naming it would add nothing."""


class Verdict(msgspec.Struct, frozen=True):
    """One extension, before alternatives are put together."""

    extension: str
    level: Level | None
    """None: no need at all."""
    rule: str
    places: tuple[Place, ...]
    files: int
    plain: bool = False
    """Used without a check in the application's own code."""
    stated: bool = False
    """A manifest or the program itself says so: not a matter of judgement."""
    among: tuple[str, ...] = ()
    """The program stops only where all of these are missing."""


def judge(whole: Whole, extension: str, called: frozenset[str] = frozenset()) -> Verdict:
    """The level of one extension.  ``called``: bundled libraries that the application's own code calls."""
    seen = [one for one in whole.uses(extension) if not whole.own_symbol(one.use) or one.guard]
    replaced = [one for one in whole.uses(extension) if whole.own_symbol(one.use)]
    checks = whole.checks(extension)
    files = whole.candidates(extension, "own", "optional")
    telling = _places(seen, checks)

    def verdict(
        level: Level | None, rule: str, places: Sequence[Place] = telling, *, plain: bool = False, stated: bool = False
    ) -> Verdict:
        return Verdict(extension, level, rule, tuple(places)[:MAX_PLACES], files, plain, stated)

    statements = whole.stated(extension)
    own_part = [one for one in seen if one.file.part in ("own", "optional")]
    plain = [one for one in own_part if one.plain]
    by_manifest = [one for one in statements if one.level == "required"]
    if by_manifest:
        first = by_manifest[0]
        rule = "the manifest requires it" if first.by == "the application" else f"the library {first.by} requires it"
        return verdict(
            "required", rule, [_stated_place(one.where, "required") for one in by_manifest] + list(telling), stated=True
        )
    stops = [
        (f, c)
        for f, c in checks
        if f.part == "own" and c.outcome == "exits" and not whole.driver(f.path, "", extension)
    ]
    if stops:
        found = verdict(
            "required", "the program stops where it is missing", _check_places(stops) + list(telling), stated=True
        )
        among = next((check.among for _, check in stops if check.among), ())
        alone = any(not check.among for _, check in stops)
        return found if alone else msgspec.structs.replace(found, among=among)
    listed = [(f, c) for f, c in checks if f.part == "own" and c.outcome == "listed-required"]
    if listed:
        return verdict(
            "required", "the program lists it as required", _check_places(listed) + list(telling), stated=True
        )
    suggestions = [one for one in statements if one.level == "recommended"]
    suggested = [one for one in suggestions if one.by == "the application"]
    if suggested:
        why = f": {suggested[0].why}" if suggested[0].why else ""
        return verdict(
            "recommended",
            f"the manifest suggests it{why}",
            [_stated_place(one.where, "suggested") for one in suggested] + list(telling),
        )
    advised = [(f, c) for f, c in checks if f.part == "own" and c.outcome == "listed-recommended"]
    if advised:
        return verdict(
            "recommended",
            "the program lists it as recommended",
            _check_places(advised) + list(telling),
            plain=bool(plain),
        )
    if replaced and not plain:
        return verdict("recommended", "the application brings a replacement of its own", _places(replaced, checks))
    asked = [(f, c) for f, c in checks if f.part in ("own", "optional") and c.outcome == "asked"]
    if plain:
        count = len({one.file.path for one in plain})
        how_often = f"used without a check in {'one file' if count == 1 else f'{count} files'}"
        protected = {one.file.path for one in own_part if one.guard in ("checked", "caught")} - {
            o.file.path for o in plain
        }
        if asked and len(protected) >= count:
            return verdict("recommended", f"{how_often}, but in more files only behind a check", plain=False)
        return verdict("required", how_often, plain=True)
    strong = [one for one in own_part if not one.use.weak]
    if strong:
        if _central(whole, extension, strong):
            return verdict("required", "what the application is about: most of its files use it", plain=True)
        return verdict("recommended", _why_optional(strong))
    if suggestions:
        first = suggestions[0]
        why = f": {first.why}" if first.why else ""
        rule = f"the library {first.by} suggests it{why}"
        return verdict("recommended", rule, [_stated_place(one.where, "suggested") for one in suggestions] + telling)
    bundled = [one for one in seen if one.file.part == "bundled" and not one.use.weak]
    if bundled:
        return _bundled(verdict, whole, bundled, called)
    if asked and extension not in EVERYWHERE and extension not in _TOOLS:
        return verdict("recommended", "the program asks whether it is there")
    if any(one.use.weak for one in seen) or asked:
        return verdict(None, "only mentioned: nothing calls it")
    return verdict(None, "its words stand in comments, strings or names only")


def _bundled(verdict: Callable[..., Verdict], whole: Whole, bundled: Sequence[Seen], called: frozenset[str]) -> Verdict:
    reached = [one for one in bundled if one.file.library in called]
    silent = [one for one in reached if not _states_its_needs(whole, one.file.library)]
    if silent:
        return verdict("recommended", "a library that came with the application uses it")
    if any(not one.driver for one in reached):
        return verdict("recommended", "a library uses it, whose own manifest does not require it")
    if reached:
        return verdict(None, "one of several that a library can use: it is in its drivers only")
    return verdict(None, "only a library uses it, which nothing outside it calls")


def _states_its_needs(whole: Whole, library: str) -> bool:
    stated = whole.manifest.stated
    return library in stated or any(library.endswith("/" + name) for name in stated)


def _central(whole: Whole, extension: str, strong: Sequence[Seen]) -> bool:
    """Whether so large a part of the files speaks of it that the application makes no sense without it."""
    if all(one.guard == "checked" or one.file.part != "own" for one in strong):
        return False
    own = sum(1 for one in whole.swept if one.file.part in ("own", "optional"))
    return whole.candidates(extension, "own", "optional") >= own * CENTRAL


def _why_optional(strong: Sequence[Seen]) -> str:
    if all(one.guard == "checked" for one in strong):
        return "used only behind a check whether it is there"
    if all(one.guard in ("checked", "caught", "explained") for one in strong):
        return "used only where its absence is caught or explained"
    if all(one.driver or one.file.part == "optional" or one.guard for one in strong):
        return "used only in parts that are chosen: drivers, plugins, or behind a check"
    return "used only in parts that need not run"


def _places(seen: Sequence[Seen], checks: Sequence[tuple[SourceFile, Check]]) -> list[Place]:
    """Plain uses first, then protected ones; files of the application's own before others; one of each file first."""
    order = {"own": 0, "optional": 1, "bundled": 2, "aside": 3}
    ranked = sorted(
        seen,
        key=lambda one: (
            not one.plain,
            order[one.file.part],
            one.use.weak,
            one.file.path.count("/"),
            one.file.path,
            one.use.line,
        ),
    )
    first: list[Place] = []
    rest: list[Place] = []
    met: set[str] = set()
    for one in ranked:
        how = _HOW.get(one.guard, "")
        if not how and one.use.weak:
            how = "only mentioned"
        if not how and (one.driver or one.file.part == "optional"):
            how = "in a part that is chosen"
        if not how and one.file.part == "bundled":
            how = "in a library"
        place = Place(one.file.path, one.use.line, one.use.name, how)
        (rest if one.file.path in met else first).append(place)
        met.add(one.file.path)
    return [*first[:6], *_check_places(checks)[:3], *first[6:], *rest]


def _check_places(checks: Sequence[tuple[SourceFile, Check]]) -> list[Place]:
    words = {"asked": "asks", "exits": "stops without it", "throws": "fails without it"}
    return [Place(file.path, check.line, check.what, words.get(check.outcome, "")) for file, check in checks]


def _stated_place(where: str, what: str) -> Place:
    path, _, line = where.rpartition(":")
    return Place(path, int(line), what) if path and line.isdigit() else Place(where, 0, what)


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
    return sorted(out, key=lambda entry: (entry.level != "required", entry.names)), left_out


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
    direct = any(not u.driver and u.file.part == "own" for one in current for u in uses[one.extension])
    level: Level = "recommended"
    connects = any(one.plain and one.use.kind == "class" for one in whole.uses("pdo"))
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
