"""Which database an application needs: by the weight of use, and any one of several where configuration chooses."""

import re
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from typing import Final

from fundamentum.catalog import extension_gone
from fundamentum.derive.beside.configuration_samples import CHOSEN
from fundamentum.derive.families import LIVE_ON, words_for
from fundamentum.derive.weighing.drivers import DRIVERISH
from fundamentum.derive.weighing.evidence import Evidence
from fundamentum.derive.weighing.seen import Seen
from fundamentum.derive.weighing.weigh import Verdict
from fundamentum.model.needs_value import Level

_CHOSEN: Final = ("chosen", "instead")
_ANY: Final = "any one of these databases will do: which one is chosen"
_SERVICE: Final = re.compile(r"session|cache|auth|log(?:ger|handler|writer)|queue|lock|messenger|task$")
"""Names of classes for what files or another service can do as well."""
_TOOL: Final = re.compile(
    r"(?:^|/)(?:bin|cli|cron|console|scripts?|tools?|migrations?|contrib|experimental|legacy)/|"
    r"(?:convert|migrat|import|export|upgrad|dump|backup|bench|experiment|splice)[^/]*$",
    re.I,
)
"""Files of single tools, converters and what is not finished: what they use does not decide for the application."""
_OF_DATABASES: Final = re.compile(r"(?:^|/)(?:dba?|dbal|databases?|sql|persistence)/[^/]+$", re.I)
"""Directories of what an application keeps its own data with."""

Group = tuple[Level, list[Verdict], str]
"""Extensions of which any one is enough, with the level and the reason for it."""


def alternative_databases(members: Sequence[Verdict], evidence: Evidence) -> Iterator[Group]:
    """An application that can use several databases needs one of them; one that can use only one needs that."""
    if any(member.stated and member.level == "required" for member in members):
        return
    uses = {
        member.extension: [use for use in evidence.uses(member.extension) if use.file.part in ("own", "optional")]
        for member in members
        if not extension_gone(member.extension, "99.0") or member.extension in LIVE_ON
    }
    used = [member for member in members if uses.get(member.extension)]
    current = _deciding(used, uses, evidence)
    for verdict in used:
        if verdict not in current and verdict.level == "required":
            said = _vendor(verdict.extension) in evidence.experimental
            yield "recommended", [verdict], "its documents call it experimental" if said else "only single tools use it"
    plain = [verdict for verdict in current if verdict.plain]
    vendors = {_vendor(verdict.extension) for verdict in plain or current}
    if not plain and (others := _offered_beside(current, vendors, uses, evidence)):
        level: Level = "required" if _needed(current, vendors, uses, evidence) else "recommended"
        yield level, [*current, *others], "its configuration offers these: any one will do"
        return
    with_choice = _chosen_beside(current, plain, uses)
    if plain and len(with_choice) > len(plain):
        yield "required", with_choice, _ANY
        return
    if not current or (plain and len(vendors) == 1):
        return  # one is used everywhere; what else there is belongs to parts that are chosen
    level = "required" if plain or _needed(current, vendors, uses, evidence) else "recommended"
    if len(current) > 1:
        yield level, current, _ANY
    elif level == "required":
        yield level, current, "the only database that the application can use"


def _offered_beside(
    current: list[Verdict], vendors: set[str], uses: Mapping[str, Sequence[Seen]], evidence: Evidence
) -> list[Verdict]:
    """What samples of the configuration offer of other vendors, where these alone speak of databases."""
    samples = {place.path for place in evidence.offered.values()}
    if any(use.file.path not in samples for verdict in current for use in uses[verdict.extension]):
        return []
    others = {name: place for name, place in evidence.offered.items() if _vendor(name) not in vendors}
    return [Verdict(name, "recommended", CHOSEN, (place,), 1) for name, place in others.items()] if current else []


def _deciding(members: list[Verdict], uses: Mapping[str, Sequence[Seen]], evidence: Evidence) -> list[Verdict]:
    """Those whose use has weight, unless none has: what single tools use has none, nor what is experimental."""

    def light(path: str) -> bool:
        return _TOOL.search(path) is not None or evidence.facts[path].unfinished

    tried = [member for member in members if _vendor(member.extension) not in evidence.experimental] or members
    return [member for member in tried if not all(light(use.file.path) for use in uses[member.extension])] or tried


def _chosen_beside(current: list[Verdict], plain: list[Verdict], uses: Mapping[str, Sequence[Seen]]) -> list[Verdict]:
    """Those used without a check, and those that are chosen in the same files."""
    files = {use.file.path for verdict in plain for use in uses[verdict.extension] if use.plain}
    return [
        verdict
        for verdict in current
        if verdict in plain or any(use.file.path in files and use.guard in _CHOSEN for use in uses[verdict.extension])
    ]


def _needed(current: list[Verdict], vendors: set[str], uses: Mapping[str, Sequence[Seen]], evidence: Evidence) -> bool:
    """Whether the application makes no sense without a database, though each of its uses is chosen."""
    every = [use for verdict in current for use in uses[verdict.extension]]
    if all(use.guard in ("checked", "caught") for use in every):
        return False
    connects = any(use.plain and use.use.kind == "class" for use in evidence.uses("pdo"))
    if all(_OF_DATABASES.search(use.file.path) for use in every) or _beside_each_other(uses):
        return True
    if len(vendors) > 1:
        return connects or _chosen_in_one_place(uses) or len({use.file.path for use in every}) >= 3
    return any(
        use.file.part == "own"
        and (connects or use.use.kind != "connection")
        and not (use.driver or _of_one_service(use))
        for use in every
    )


def _chosen_in_one_place(uses: Mapping[str, Sequence[Seen]]) -> bool:
    """Whether one function chooses between the databases of several vendors: that is where it connects."""
    vendors: dict[tuple[str, str, str], set[str]] = defaultdict(set)
    for extension, seen in uses.items():
        for use in seen:
            if use.file.part == "own" and use.guard in _CHOSEN and not use.driver and not _of_one_service(use):
                vendors[use.file.path, use.use.scope, use.use.function].add(_vendor(extension))
    return any(len(chosen) > 1 for chosen in vendors.values())


def _beside_each_other(uses: Mapping[str, Sequence[Seen]]) -> bool:
    """Whether drivers for several vendors, each called after its own, stand in one directory and nowhere else."""
    paths = {seen.file.path: _vendor(extension) for extension, every in uses.items() for seen in every}
    directories = {path.rpartition("/")[0].lower() for path in paths}
    directory = next(iter(directories), "")
    named = all(
        any(word in seen.file.path.rpartition("/")[2].lower() for word in words_for(extension))
        for extension, every in uses.items()
        for seen in every
    )
    if len(set(paths.values())) < 2 or len(directories) > 1 or not directory or "librar" in directory or not named:
        return False
    return _SERVICE.search(directory) is None


def _of_one_service(seen: Seen) -> bool:
    """Whether it stands in a class for which a database is one of several ways: ``PdoSessionHandler``."""
    scope = seen.use.scope
    named = _SERVICE.search(scope) or _SERVICE.search(seen.use.function)
    return named is not None or ("pdo" in scope and DRIVERISH.search(scope) is not None)


def _vendor(extension: str) -> str:
    return {"mysqli": "mysql", "sqlite3": "sqlite"}.get(extension, extension.removeprefix("pdo_"))
