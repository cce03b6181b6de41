"""Directives of PHP and what they must be: ``[settings.required]`` and ``[settings.recommended]``."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any, Final

import msgspec
from msgspec.structs import replace

from fundamentum import entries
from fundamentum.catalog import TAKING
from fundamentum.changes.service import Restart
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.settings.demand import DirectiveDemand
from fundamentum.kinds.settings.promised import value_promised
from fundamentum.kinds.settings.setting_verdict import SettingNeed, judged
from fundamentum.kinds.table_reader import Reader, Table
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.conditions import FORMS, condition, contradict
from fundamentum.model.findings import Finding
from fundamentum.model.needs import LEVELS
from fundamentum.model.needs_value import Level, NotUnderstood
from fundamentum.model.promises import Promise

_DIRECTIVE: Final = lazy_regex(r"[A-Za-z_][A-Za-z0-9_.-]{0,99}")


class SettingsTable(Table):
    """Directives of php.ini and what they must be: ">= 256M", "on", "set", "lacks exec", "zone", "= VALUE"."""

    required: Annotated[dict[str, Any], msgspec.Meta(description="Directive name to condition.")] = {}
    recommended: Annotated[dict[str, Any], msgspec.Meta(description="Directive name to condition.")] = {}


class Settings(Kind[SettingNeed]):
    """Directives, by the value that counts for the judged site."""

    prefixes = ("setting",)
    order = 30
    tables = {"settings": SettingsTable}

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[SettingNeed]:
        needs: dict[str, SettingNeed] = {}
        for level in LEVELS:
            for path, value in _flattened(getattr(tables["settings"], level), ()):
                need = _need(path, value, level, reader)
                if need is None:
                    continue
                other = needs.setdefault(need.name, need)
                if other is not need and contradict(need.name, other.condition, need.condition):
                    reader.refuse(
                        ["settings", level, *path],
                        f"{need.name}: '{need.condition.text}' contradicts '{other.condition.text}' "
                        f"in [settings.{other.level}]",
                    )
                yield need

    def judge(self, need: SettingNeed, context: Context) -> Finding:
        finding = judged(need, context)
        lacking = finding.verdict == "unmet"
        service = context.target.runtime.service if finding.state == "awaiting-restart" else None
        demand = DirectiveDemand(context.target, need.name, (need.condition,), lacking)
        if need.condition.kind == "zone":  # where an application names a zone itself, that one will do
            zone = condition(need.name, f"= {context.survey.machine.zone or 'UTC'}")
            demand = replace(demand, conditions=(zone,), weak=True)
        demands = (Restart(service),) if service else finding.demands
        if lacking and need.name in TAKING and need.condition.kind != "has":
            # What it keeps away is kept from every site of this PHP, and that is for a person to decide.
            everybody = "; it counts for everything that runs with these files, so it is for you to decide"
            return replace(finding, remedy=f"{finding.remedy}{everybody}", demands=demands)
        finding = replace(finding, demands=(*demands, demand))
        with_chain: Finding = entries.entry("fundamentum.kinds", "limits").with_chain(finding, need, context)
        return with_chain

    def questions(self, need: SettingNeed) -> Iterator[tuple[Question, str]]:
        """What the chain of limits that a directive belongs to asks."""
        if limit := entries.entry("fundamentum.kinds", "limits").limit_of(need):
            yield from entries.entry("fundamentum.kinds", "limits").KIND.questions(limit)

    def promised(self, finding: Finding, context: Context) -> Iterator[Promise]:
        names = [link.name for link in finding.chain if link.condition] or [finding.need.names[0]]
        for name in names:
            yield from value_promised(finding, name, context)


def _need(path: tuple[str, ...], value: Any, level: Level, reader: Reader) -> SettingNeed | None:
    name = ".".join(path)
    place = ["settings", level, *path]
    if not _DIRECTIVE.fullmatch(name):
        reader.refuse(place, f"'{name}' is no directive name")
        return None
    if isinstance(value, bool | int):
        value = str(value) if type(value) is int else "on" if value else "off"
    if not isinstance(value, str):
        reader.refuse(place, f"'{name}' must be text in quotes, such as {FORMS}")
        return None
    try:
        return SettingNeed(name, condition(name, value), level)
    except NotUnderstood as error:
        reader.refuse(place, f"{name}: {error}")
        return None


def _flattened(table: Mapping[str, Any], before: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], Any]]:
    """``session.auto_start`` without quotes is a table inside a table; it means the same."""
    for name, value in table.items():
        if isinstance(value, dict):
            yield from _flattened(value, (*before, name))
        else:
            yield (*before, name), value


KIND = Settings()
