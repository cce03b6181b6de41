"""Variables of the database server: ``[database.settings.required]`` and ``[database.settings.recommended]``."""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.databases import built_in, is_known, names_of, plain
from fundamentum.catalog.quantity import spelled
from fundamentum.changes.base import Change
from fundamentum.changes.service import Restart
from fundamentum.kinds.base import Context
from fundamentum.kinds.databases.variable_demand import VariableDemand
from fundamentum.kinds.databases.way import TITLES, DatabaseNeed, best_way
from fundamentum.kinds.table_reader import Reader, did_you_mean
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.conditions import Condition, condition
from fundamentum.model.findings import AGAIN, Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, NotUnderstood, Value
from fundamentum.model.origin import BUILT_IN
from fundamentum.model.surrounding_facts import DatabaseOptions
from fundamentum.platforms.offers import upstream

SERVERS: Final = ("mariadb", "mysql", "postgresql")
_NAME: Final = lazy_regex(r"[a-z][a-z0-9_.]{0,63}")


class VariableNeed(Value, frozen=True):
    """One variable of the database server, and what it must be."""

    name: str
    text: str
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId(f"database-setting:{self.name}")

    def condition(self, product: str, version: str) -> Condition:
        """What it must be, with its numbers in the form in which :func:`plain` has values of that product."""
        return condition("", _in_numbers(self.text, lambda text: plain(product, version, self.name, text)))


def _in_numbers(text: str, number: Callable[[str], str]) -> str:
    parts = []
    for part in text.split(","):
        match = re.fullmatch(r"\s*(>=|<=|!=|>|<|=|)\s*(.*?)\s*", part)
        operator, value = (match[1], match[2]) if match else ("", part)
        sized = re.fullmatch(r"-?\d+(?:\.\d+)?\s*[A-Za-zµ]{0,3}", value)
        parts.append(f"{operator} {number(value) if sized else value}".strip())
    return ", ".join(parts)


def read_variables(tables: Mapping[Level, Mapping[str, object]], reader: Reader) -> Iterator[VariableNeed]:
    """The needs that stand in the two tables."""
    seen: set[str] = set()
    for level, table in tables.items():
        for name, value in _flattened(table):
            place = ["database", "settings", level, *name.split(".")]
            plain_name = name.replace("-", "_").lower()
            text = value if isinstance(value, str) else _as_text(value)
            if text is None or not _NAME.fullmatch(plain_name):
                reader.refuse(place, f"'{name}' must be a variable, and text in quotes, such as \">= 16M\"")
                continue
            number = re.fullmatch(r"\d+(?:\.\d+)?\s*[A-Za-z]{0,3}", text.strip())
            need = VariableNeed(plain_name, f">= {text.strip()}" if number else text.strip(), level)
            try:
                need.condition("mariadb", "10.11")
            except NotUnderstood as error:
                reader.refuse(place, f"{name}: {error}")
                continue
            if plain_name in seen:
                reader.refuse(place, f"'{name}' is listed twice")
            seen.add(plain_name)
            yield need


def _as_text(value: object) -> str | None:
    if isinstance(value, bool):
        return "on" if value else "off"
    return str(value) if isinstance(value, int) else None


def _flattened(table: Mapping[str, object], before: str = "") -> Iterator[tuple[str, object]]:
    for name, value in table.items():
        if isinstance(value, dict):
            yield from _flattened(value, f"{before}{name}.")
        else:
            yield f"{before}{name}", value


def judged_variable(need: VariableNeed, context: Context) -> Finding:
    """The value that the files of the chosen server give, or its built-in one, against what is wanted."""
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=need.text, found="not known")
    product = _product(context)
    if product == "sqlite":
        return replace(base, verdict="met", found=f"{TITLES[product]} has no server, and no variables")
    if product is None:
        remedy = "which server is it for? write [database] required, or install one"
        return replace(base, remedy=remedy)
    if not is_known(product, need.name) and product != "mysql":
        if any(is_known(other, need.name) for other in SERVERS):
            return replace(base, verdict="met", found=f"{TITLES[product]} has no such variable")
        known = [name for name in names_of(product) if name[:1] == need.name[:1]]
        hint = did_you_mean(need.name, known)
        return replace(base, remedy=f"{TITLES[product]} has no variable {need.name} that is known here{hint}")
    if any(database.chosen for database in context.survey.databases):
        return replace(base, remedy=f"it is that of a server elsewhere: ask it, SHOW VARIABLES LIKE '{need.name}'")
    files = [options for options in context.survey.options if options.product == product]
    if not files:
        return _not_there(base, need, product, context)
    judged = [_judged(base, need, options, context) for options in files]
    order = ("unmet", "unknown", "met")
    return min(judged, key=lambda finding: order.index(finding.verdict))  # of several clusters the worst counts


def _product(context: Context) -> str | None:
    """The server that is chosen: by the application's needs, else the one that is there."""
    servers = context.needs.of(DatabaseNeed)
    chosen = next((need for need in servers if need.level == "required"), servers[0] if servers else None)
    if chosen:
        return best_way(chosen, context).product
    return next((options.product for options in context.survey.options), None)


def _not_there(base: Finding, need: VariableNeed, product: str, context: Context) -> Finding:
    """A server that is not installed yet: a file of its own makes sure, once it is."""
    asked = context.survey.asked
    if asked is None or product not in asked.options:
        return replace(base, remedy=AGAIN)
    version = _offered_version(product, context)
    folder = context.offers.platform.database_additions.get(product, "").format(version=version)
    if version is None or not folder:
        return replace(base, remedy=f"see SHOW VARIABLES LIKE '{need.name}' once the server is installed")
    there = DatabaseOptions(product, version, folder=folder)  # type: ignore[arg-type]
    finding = _judged(base, need, there, context)
    if finding.verdict == "met":  # what its package brings may say otherwise
        return replace(finding, remark="by its built-in value: its package may set it otherwise")
    return replace(finding, found=f"{finding.found}, once it is installed")


def _shown(value: str) -> str:
    """A value; of bytes, in which nobody counts, with the larger unit."""
    accepted = value.isdigit() and int(value) >= 4096 and int(value) % 1024 == 0
    return f"{value} ({spelled(int(value))})" if accepted else value or "empty"


def _offered_version(product: str, context: Context) -> str | None:
    from_packages = {"postgresql": "postgresql", "mariadb": "mariadb-server", "mysql": "mysql-server"}
    offer = context.offers.package(from_packages[product])
    version = upstream(offer.version) if offer else ""
    return ".".join(version.split(".")[: 1 if product == "postgresql" else 2]) or None


def _judged(base: Finding, need: VariableNeed, options: DatabaseOptions, context: Context) -> Finding:
    product, version = options.product, options.version
    wanted = need.condition(product, version)
    present = options.values.get(need.name)
    value = present.value if present else built_in(product, version, need.name)
    origin = present.origin if present else BUILT_IN
    if value is None:
        return replace(base, remedy=f"its built-in value is not known: see SHOW VARIABLES LIKE '{need.name}'")
    base = replace(base, found=_shown(value), origin=origin)
    if options.unread:
        why = f"{options.unread[0]} could not be read, and may say otherwise: survey again as root"
        return replace(base, remedy=why)
    holds = wanted.holds("", plain(product, version, need.name, value))
    service = context.offers.platform.database_services.get(product)
    if holds and origin.file in options.stale:
        remedy = f"restart {service or TITLES[product]}: it started before {origin.file} changed"
        demands: Sequence[Change] = (Restart(service),) if service else ()
        return replace(base, verdict="unmet", state="awaiting-restart", remedy=remedy, demands=tuple(demands))
    demand = VariableDemand(product, version, need.name, value, (wanted,), not holds, options, need.text)
    if holds:
        return replace(base, verdict="met", demands=(demand,))
    proposal = demand.value or need.text
    if options.folder is None or need.name in options.late or not service:
        place = str(origin) if not origin.built_in else "its option file"
        return replace(base, verdict="unmet", remedy=f"set {need.name} = {proposal} at {place}, then restart it")
    return replace(base, verdict="unmet", remedy=f"set {need.name} = {proposal}", demands=(demand,))
