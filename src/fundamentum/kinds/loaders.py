"""Loaders for encoded code: ``[loaders]``."""

from collections.abc import Iterator, Mapping
from typing import Any

from fundamentum.catalog import canonical
from fundamentum.kinds.base import Context, Kind
from fundamentum.kinds.extensions import finding_of
from fundamentum.kinds.extensions.state import standing
from fundamentum.kinds.table_reader import NamesTable, Reader
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.promises import Promise


class LoaderNeed(Value, frozen=True):
    """A loader, by the name PHP lists it under."""

    name: str
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId(f"loader:{self.name}")


class Loaders(Kind[LoaderNeed]):
    """Loaders, which come from their makers rather than with PHP."""

    prefixes = ("loader",)
    order = 20
    tables = {"loaders": NamesTable}
    on_command_line = True

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[LoaderNeed]:
        for level, name in reader.listed("loaders", tables["loaders"]):
            yield LoaderNeed(name.strip(), level)

    def judge(self, need: LoaderNeed, context: Context) -> Finding:
        loader = standing(canonical(need.name), context, loader=need.name)
        return finding_of(loader, need.key, need.level, context)

    def promised(self, finding: Finding, context: Context) -> Iterator[Promise]:
        yield Promise(finding.need, "extension", finding.need.names[0].lower(), "loaded")

    def met_in_words(self, finding: Finding) -> str:
        return " or ".join(finding.need.names)


KIND = Loaders()
