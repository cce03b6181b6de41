"""Extensions of PHP: ``[extensions]``."""

import re
from collections.abc import Iterator, Mapping
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.catalog import canonical
from fundamentum.kinds.base import Context, Kind
from fundamentum.kinds.extensions.activation import for_extension
from fundamentum.kinds.extensions.state import ORDER, Standing, standing
from fundamentum.kinds.table_reader import NamesTable, Reader
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.promises import Promise

_NAME: Final = re.compile(r"[A-Za-z][A-Za-z0-9_ -]{0,63}")


class ExtensionNeed(Value, frozen=True):
    """One extension, or any one of several."""

    names: tuple[str, ...]
    level: Level

    @property
    def key(self) -> NeedId:
        """``extension:pdo_mysql|pdo_pgsql``, as findings name it."""
        return NeedId("extension:" + "|".join(self.names))


class Extensions(Kind[ExtensionNeed]):
    """Extensions, by the names that PHP and its packages have for them."""

    prefixes = ("extension",)
    order = 10
    tables = {"extensions": NamesTable}
    on_command_line = True

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[ExtensionNeed]:
        seen: set[tuple[str, ...]] = set()
        for level, entry in reader.listed("extensions", tables["extensions"]):
            names = tuple(canonical(name) for name in entry.split("|"))
            for raw in entry.split("|"):
                if not _NAME.fullmatch(raw.strip()):
                    raise reader.error(["extensions", level], f"'{raw.strip()}' is no extension name", entry)
            if names in seen or len(set(names)) < len(names):
                raise reader.error(["extensions", level], f"'{entry}' is listed twice", entry)
            seen.add(names)
            yield ExtensionNeed(names, level)

    def judge(self, need: ExtensionNeed, context: Context) -> Finding:
        """The finding for the best of the alternatives: of equally good ones the first."""
        standings = [standing(name, context) for name in need.names]
        best = min(standings, key=lambda one: ORDER.index(one.state) if one.state else len(ORDER))
        found = finding_of(best, need.key, need.level, context)
        return replace(found, wanted=" or ".join(need.names)) if len(need.names) > 1 else found

    def promised(self, finding: Finding, context: Context) -> Iterator[Promise]:
        yield Promise(finding.need, "extension", finding.subject or finding.need.names[0], "loaded")

    def met_in_words(self, finding: Finding) -> str:
        names = finding.need.names
        return " or ".join(names) + (f" ({finding.subject})" if len(names) > 1 and finding.subject else "")


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
