"""Extensions of PHP: ``[extensions]``."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any, Final

import msgspec
from msgspec.structs import replace

from fundamentum import entries
from fundamentum.catalog.suppliers import suppliers
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.extensions.absent import AbsentNeed, judged_absent
from fundamentum.kinds.extensions.activation import for_extension
from fundamentum.kinds.extensions.names import WAYS, Way, meant
from fundamentum.kinds.extensions.state import ORDER, Standing, standing
from fundamentum.kinds.extensions.versions import of_version
from fundamentum.kinds.table_reader import Listing, Reader
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.constraints import version_range
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, NotUnderstood, Text, Value
from fundamentum.model.promises import Promise
from fundamentum.model.versions import VersionRange

_VERSIONED: Final = lazy_regex(r"(.*?)\s*((?:>=|<=|!=|==|[><=^~]).*|[0-9][0-9.]*\s*\+)?")


class WayTable(Listing):
    """Extensions for one way of running PHP only."""

    absent: Annotated[list[Text], msgspec.Meta(description="These must not be loaded.")] = []


class ExtensionsTable(WayTable):
    """Extensions by level: "gd", "redis >= 5.0 | apcu".  In one entry, | separates alternatives."""

    web: Annotated[WayTable, msgspec.Meta(description="For pages only.")] = msgspec.field(default_factory=WayTable)
    command_line: Annotated[WayTable, msgspec.Meta(description="For programs on the command line only.")] = (
        msgspec.field(default_factory=WayTable)
    )


class ExtensionNeed(Value, frozen=True):
    """One extension, or any one of several."""

    names: tuple[str, ...]
    level: Level
    versions: tuple[VersionRange, ...] = ()
    """The versions of each that will do; none: any of all of them."""
    way: Way = ""

    @property
    def key(self) -> NeedId:
        """``extension:pdo_mysql|pdo_pgsql``, as findings name it."""
        return NeedId("extension:" + "|".join(self.names))

    def versions_of(self, name: str) -> VersionRange:
        """The versions of one alternative that will do."""
        return self.versions[self.names.index(name)] if self.versions else VersionRange()


class Extensions(Kind[ExtensionNeed | AbsentNeed]):
    """Extensions, by the names that PHP and its packages have for them; and those that must not be loaded."""

    prefixes = ("extension", "absent")
    order = 10
    tables = {"extensions": ExtensionsTable}
    on_command_line = True

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[ExtensionNeed | AbsentNeed]:
        table = tables["extensions"]
        seen: set[tuple[str, ...]] = set()
        for way in WAYS:
            part = getattr(table, way) if way else table
            place = ["extensions", *([way] if way else [])]
            for level, entry in reader.listed("extensions", part):
                try:
                    need = _need(entry, level, way)
                except NotUnderstood as error:
                    reader.refuse([*place, level], error, entry)
                    continue
                if need.names in seen or len(set(need.names)) < len(need.names):
                    reader.refuse([*place, level], f"'{entry}' is listed twice", entry)
                seen.add(need.names)
                yield need
            for name in part.absent:
                try:
                    yield AbsentNeed(meant(name), way)
                except NotUnderstood as error:
                    reader.refuse([*place, "absent"], error, name)

    def questions(self, need: ExtensionNeed | AbsentNeed) -> Iterator[tuple[Question, str]]:
        """The files of extensions of which the version counts."""
        if isinstance(need, ExtensionNeed):
            yield from (("modules", name) for name in need.names if need.versions_of(name).alternatives)

    def concerns(self, need: ExtensionNeed | AbsentNeed, command_line: bool) -> bool:
        return need.way in ("", "command_line" if command_line else "web")

    def judge(self, need: ExtensionNeed | AbsentNeed, context: Context) -> Finding:
        """The finding for the best of the alternatives: of equally good ones the first."""
        if isinstance(need, AbsentNeed):
            return judged_absent(need, context)
        names = _of_chosen_database(need, context)
        standings = [of_version(standing(name, context), need.versions_of(name), context) for name in names]
        best = min(
            standings, key=lambda standing_of: ORDER.index(standing_of.state) if standing_of.state else len(ORDER)
        )
        finding = finding_of(best, need.key, need.level, context)
        words = [f"{name} {need.versions_of(name)}".removesuffix(" any") for name in need.names]
        return replace(finding, wanted=" or ".join(words)) if words != [*need.names] or len(words) > 1 else finding

    def written(self, need: NeedId) -> str:
        return f'[extensions]\nabsent = ["{need.names[0]}"]' if need.kind == "absent" else ""

    def words(self, need: NeedId) -> str:
        return f"no extension {need.names[0]}" if need.kind == "absent" else super().words(need)

    def heading(self, finding: Finding) -> str:
        return "not loaded" if finding.need.kind == "absent" else super().heading(finding)

    def promised(self, finding: Finding, context: Context) -> Iterator[Promise]:
        loaded = "not loaded" if finding.need.kind == "absent" else "loaded"
        yield Promise(finding.need, "extension", finding.subject or finding.need.names[0], loaded)

    def met_in_words(self, finding: Finding) -> str:
        names = finding.need.names
        version = (finding.found or "").removeprefix("loaded ")
        numbered = f" {version}" if version[:1].isdigit() else ""
        return " or ".join(names) + (f" ({finding.subject})" if len(names) > 1 and finding.subject else "") + numbered


def _of_chosen_database(need: ExtensionNeed, context: Context) -> tuple[str, ...]:
    """The alternatives; where they are drivers, those of the database server that is chosen: one is no good alone."""
    if len(need.names) < 2:
        return need.names
    drivers = {driver for drivers in suppliers().drivers.values() for driver in drivers}
    if not drivers.issuperset(need.names):
        return need.names
    chosen: frozenset[str] = entries.entry("fundamentum.kinds", "databases").chosen_drivers(context)
    return tuple(name for name in need.names if name in chosen) or need.names


def _need(entry: str, level: Level, way: Way) -> ExtensionNeed:
    """One entry: names, each with the versions that will do."""
    names, ranges = [], []
    for part in entry.split("|"):
        match = _VERSIONED.fullmatch(part.strip())
        names.append(meant(match[1] if match else part))
        ranges.append(version_range(match[2]) if match and match[2] else VersionRange())
        if ranges[-1].contradictory():
            raise NotUnderstood(f"no version of {names[-1]} can satisfy '{ranges[-1]}'")
    return ExtensionNeed(
        tuple(names), level, tuple(ranges) if any(range_.alternatives for range_ in ranges) else (), way
    )


def finding_of(where: Standing, key: NeedId, level: Level, context: Context) -> Finding:
    """The state of an extension as a finding, with the changes that make it active."""
    met = where.state == "active"
    verdict = "met" if met else "unmet" if where.known else "unknown"
    return Finding(
        need=key,
        level=level,
        verdict=verdict,  # type: ignore[arg-type]
        state=where.state,
        wanted="loaded",
        found=where.found,
        origin=where.origin,
        remedy=where.remedy,
        remark=where.remark,
        subject=where.name,
        package=where.package,
        demands=tuple(for_extension(where, context)) if verdict == "unmet" else (),
    )


KIND = Extensions()
