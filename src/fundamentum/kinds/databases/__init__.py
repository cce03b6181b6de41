"""Database servers: ``[database]``."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any, Final

import msgspec
from msgspec.structs import replace

from fundamentum.catalog.suppliers import suppliers
from fundamentum.changes.base import Change
from fundamentum.changes.packages import Install
from fundamentum.changes.policy_boolean import SwitchBoolean
from fundamentum.changes.service import Restart
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.databases.name import DatabaseNameNeed, database_name, judged_name
from fundamentum.kinds.databases.variables import SERVERS, VariableNeed, judged_variable, read_variables
from fundamentum.kinds.databases.way import PRODUCTS, TITLES, DatabaseNeed, Server, Way, best_way
from fundamentum.kinds.extensions.activation import for_extension
from fundamentum.kinds.table_reader import Listing, Reader, Table
from fundamentum.model.findings import AGAIN, Finding, State, Verdict
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import LEVELS
from fundamentum.model.needs_value import Text
from fundamentum.model.origin import Origin
from fundamentum.model.survey import Survey
from fundamentum.platforms.base import Platform, policy_texts
from fundamentum.platforms.offers import Offers, upstream

AnyDatabaseNeed = DatabaseNeed | DatabaseNameNeed | VariableNeed
_HERE: Final = frozenset({"localhost", "127.0.0.1", "::1", "[::1]"})


class VariablesTable(Table):
    """Variables of the database server and what they must be: ">= 16M", "on", "has WORD", "= VALUE"."""

    required: Annotated[dict[str, Any], msgspec.Meta(description="Variable to condition.")] = {}
    recommended: Annotated[dict[str, Any], msgspec.Meta(description="Variable to condition.")] = {}


class DatabaseTable(Listing):
    """Database servers: "mariadb >= 10.6 | postgresql >= 13"; | separates alternatives, each entry must hold."""

    name: Annotated[
        Text | None,
        msgspec.Meta(description="The application's own database there, and the user who has it."),
    ] = None
    character_set: Annotated[Text | None, msgspec.Meta(description='That database\'s: "utf8mb4".')] = None
    settings: Annotated[VariablesTable, msgspec.Meta(description="Variables of the server.")] = msgspec.field(
        default_factory=VariablesTable
    )


class Databases(Kind[AnyDatabaseNeed]):
    """Database servers, found by their packages or their greeting, each with the extension that speaks to it.

    And the application's own database there, and the variables of the server.
    """

    prefixes = ("database", "database-name", "database-setting")
    beyond_php = True
    order = 50
    tables = {"database": DatabaseTable}
    group = "database"

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[AnyDatabaseNeed]:
        table = tables["database"]
        servers = [
            DatabaseNeed(alternatives, level)  # type: ignore[arg-type]
            for level, alternatives in reader.alternatives("database", table, lambda: PRODUCTS)
        ]
        yield from servers
        yield from database_name(table.name, table.character_set, servers, reader)
        variables = {level: getattr(table.settings, level) for level in LEVELS}
        yield from read_variables(variables, reader)

    def questions(self, need: AnyDatabaseNeed) -> Iterator[tuple[Question, str]]:
        if isinstance(need, DatabaseNameNeed):
            return
        if isinstance(need, VariableNeed):
            yield from (("options", product) for product in SERVERS)
            return
        for product, _ in need.alternatives:
            yield from (("packages", package) for package in suppliers().products[product])
            yield from (("sockets", place) for place in suppliers().places[product])
        yield from (("texts", path) for path in policy_texts(Platform.network_database_boolean))

    def judge(self, need: AnyDatabaseNeed, context: Context) -> Finding:
        """The finding for the alternative with the least to do."""
        if isinstance(need, VariableNeed):
            return judged_variable(need, context)
        return judged_name(need, context) if isinstance(need, DatabaseNameNeed) else _judged(need, context)

    def words(self, need: NeedId) -> str:
        if need.kind == "database-setting":
            return f"database setting {need.names[0]}"
        return super().words(need) if need.kind == "database" else f"database {need.names[0]} of its own"

    def written(self, need: NeedId) -> str:
        if need.kind == "database-setting":
            return f'[database.settings.required]\n{need.names[0]} = "set"'
        return f'[database]\nrequired = ["{" | ".join(need.names)}"]' if need.kind == "database" else ""

    def met_in_words(self, finding: Finding) -> str:
        if finding.need.kind == "database-setting":
            return f"{finding.need.names[0]} {finding.found}"
        return finding.found or " or ".join(finding.need.names)


def _judged(need: DatabaseNeed, context: Context) -> Finding:
    survey, offers = context.survey, context.offers
    base = Finding(need=need.key, level=need.level, verdict="unmet", wanted=need.text)
    best = best_way(need, context)
    server, driver = best.server, best.standing
    there = server is not None and server.accepted
    name = TITLES[best.product]
    actual = f"{name} {server.version or 'of unknown version'} ({server.where})" if server else f"no {name}"
    if driver.state != "active":
        actual += f"; its driver {best.driver}: {driver.found or driver.state}"
    base = replace(base, found=actual, origin=Origin(server.where) if server and server.where else None)
    starting = _starting(best, context) if there and best.runs is False else None
    if starting:
        base = replace(base, found=f"{base.found}, which does not run")
    elif there and driver.state == "active":
        return _over_network(replace(base, verdict="met", subject=best.driver), server, context)
    base = replace(base, demands=(*_demands(best, context), *([starting] if starting else [])))
    remedies = [f"start it: {starting.words(offers)}"] if starting else []
    if not there:
        remedies.append(_server_remedy(best, survey, offers))
    if driver.state != "active":
        remedies.append(driver.remedy or "")
    subject = best.driver if driver.state != "active" else None
    if server and server.accepted is None and not best.package:
        verdict: Verdict = "unknown" if driver.state == "active" else "unmet"
        return replace(base, verdict=verdict, remedy="; ".join(remedies), subject=subject, state=None)
    if starting and driver.state == "active":
        return replace(base, state="switched-off", remedy="; ".join(remedies))
    if server is None and not best.package and not _looked(best.product, survey):
        return replace(base, verdict="unknown", remedy="; ".join(remedies), subject=subject, state=None)
    state: State | None = "installable" if best.package else driver.state if there else "unobtainable"
    return replace(base, state=state, remedy="; ".join(remedies), subject=subject, package=best.package)


def _starting(way: Way, context: Context) -> Restart | None:
    service = context.offers.platform.database_services.get(way.product)
    return Restart(service, "start", reads=False) if service else None


def _over_network(finding: Finding, server: Server | None, context: Context) -> Finding:
    """The finding, unless an enforcing system keeps PHP from reaching a server on another machine."""
    host = server.where.rpartition(":")[0] if server else ""
    here = not host or server is None or server.where.startswith("/") or host in _HERE
    if here or not context.survey.machine.enforcing:
        return finding
    boolean = context.offers.platform.network_database_boolean
    on = _boolean(boolean, context.survey)
    change = SwitchBoolean(boolean, "PHP reach databases over the network")
    if on is None:
        actual, remedy = f"{finding.found}; SELinux may keep PHP from it", f"see whether it is on: getsebool {boolean}"
        return replace(finding, verdict="unknown", found=actual, remedy=remedy)
    if on:
        return finding
    actual, remedy = f"{finding.found}; SELinux keeps PHP from it", change.words(context.offers)
    return replace(finding, verdict="unmet", state="switched-off", found=actual, remedy=remedy, demands=(change,))


def _boolean(name: str, survey: Survey) -> bool | None:
    """Whether a boolean of the policy is on, as the running system or else the policy store has it; None: not known."""
    running, stored = (survey.answers.get(f"text:{path}") for path in policy_texts(name))
    if running and running.there and running.lines:
        return running.lines[0].startswith("1")
    if stored is None or stored.there is None:
        return None
    return f"{name}=1" in stored.lines


def _demands(way: Way, context: Context) -> Iterator[Change]:
    """What is to be installed and switched on."""
    # What is there and too old is upgraded with everything else, not by a plan for one application.
    present = {package.name for package in context.survey.installed or ()}
    if way.package and way.package not in present:
        yield Install(way.package, of_php=False)
        if service := context.offers.platform.database_services.get(way.product):
            yield Restart(service, "start", reads=False)
    if way.standing.state != "active":
        yield from for_extension(way.standing, context)


def _server_remedy(way: Way, survey: Survey, offers: Offers) -> str:
    name = TITLES[way.product]
    if way.package and (offer := offers.package(way.package)):
        return f"install {way.package} {upstream(offer.version)} ({offer.source})"
    if way.server and way.server.accepted is None:
        if way.product == "sqlite":
            return "find out the version of the SQLite library: ask PHP for SQLite3::version()"
        return f"{name} tells its version to nobody who has not logged in: look yourself"
    if any(database.chosen for database in survey.databases):
        return f"use a server of {name} {way.versions}"
    packages = [offers.package(package) for package in suppliers().products[way.product]]
    versions = [upstream(offer.version) for offer in packages if offer]
    if versions:
        return f"the repositories here have {name} {versions[0]} only: add one that has {way.versions}"
    if not _looked(way.product, survey):
        return f"what the repositories have of {name} was not looked at: {AGAIN}"
    return f"no repository here has {name}: add one that does, or use a server elsewhere (--database HOST)"


def chosen_drivers(context: Context) -> frozenset[str]:
    """The extensions that speak to the servers that are chosen, each one that will do."""
    chosen = {best_way(need, context).product for need in context.needs.of(DatabaseNeed) if need.level == "required"}
    return frozenset(driver for product in chosen for driver in suppliers().drivers[product])


def _looked(product: str, survey: Survey) -> bool:
    """Whether the survey was made with this product in mind."""
    return survey.asked is not None and set(suppliers().products[product]) <= set(survey.asked.packages)


KIND = Databases()
