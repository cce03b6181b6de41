"""Database servers: ``[database]``."""

import re
from collections.abc import Iterator, Mapping
from typing import Any, Final, Literal

import msgspec
from msgspec.structs import replace

from fundamentum.catalog.suppliers import suppliers
from fundamentum.changes.base import Change
from fundamentum.changes.packages import Install
from fundamentum.changes.policy_boolean import SwitchBoolean
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.kinds.extensions.activation import for_extension
from fundamentum.kinds.extensions.state import ORDER, Standing, standing
from fundamentum.kinds.table_reader import Listing, Reader, as_text
from fundamentum.model.findings import AGAIN, Finding, State, Verdict
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.origin import Origin
from fundamentum.model.survey import Survey
from fundamentum.model.versions import VersionRange
from fundamentum.platforms.base import Platform, policy_texts
from fundamentum.platforms.offers import Offers, upstream

Product = Literal["mariadb", "mysql", "postgresql", "sqlite"]
PRODUCTS: Final[tuple[Product, ...]] = ("mariadb", "mysql", "postgresql", "sqlite")
_HERE: Final = frozenset({"localhost", "127.0.0.1", "::1", "[::1]"})
_NAMES: Final = {"mariadb": "MariaDB", "mysql": "MySQL", "postgresql": "PostgreSQL", "sqlite": "SQLite"}


class DatabaseTable(Listing):
    """Database servers: "mariadb >= 10.6 | postgresql >= 13"; | separates alternatives, each entry must hold."""


class DatabaseNeed(Value, frozen=True):
    """One database server, or any one of several, each with the versions that will do."""

    alternatives: tuple[tuple[Product, VersionRange], ...]
    level: Level

    @property
    def key(self) -> NeedId:
        """``database:mariadb|postgresql``, as findings name it."""
        return NeedId("database:" + "|".join(product for product, _ in self.alternatives))

    @property
    def text(self) -> str:
        """As it is written."""
        return as_text(self.alternatives)


class Databases(Kind[DatabaseNeed]):
    """Database servers, found by their packages or their greeting, each with the extension that speaks to it."""

    prefixes = ("database",)
    order = 50
    tables = {"database": DatabaseTable}
    group = "database"

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[DatabaseNeed]:
        for level, found in reader.alternatives("database", tables["database"], PRODUCTS):
            yield DatabaseNeed(found, level)  # type: ignore[arg-type]

    def questions(self, need: DatabaseNeed) -> Iterator[tuple[Question, str]]:
        for product, _ in need.alternatives:
            yield from (("packages", package) for package in suppliers().products[product])
        yield from (("texts", path) for path in policy_texts(Platform.network_database_boolean))

    def judge(self, need: DatabaseNeed, context: Context) -> Finding:
        """The finding for the alternative with the least to do."""
        return _judged(need, context)

    def met_in_words(self, finding: Finding) -> str:
        return finding.found or " or ".join(finding.need.names)


class _Server(msgspec.Struct, frozen=True):
    """One database server that would do, or not."""

    version: str | None
    where: str
    accepted: bool | None
    """None: its version is not known."""


def _servers(product: str, versions: VersionRange, survey: Survey) -> Iterator[_Server]:
    chosen = any(database.chosen for database in survey.databases)
    answering = [
        database for database in survey.databases if database.product == product and (database.chosen or not chosen)
    ]
    pattern = suppliers().installed[product]
    packages = [] if chosen and product != "sqlite" else survey.installed or ()
    installed = [package for package in packages if re.fullmatch(pattern, package.name) and upstream(package.version)]
    for one in answering:
        version = one.version or next((upstream(package.version) for package in installed), None)
        accepted = None if version is None and versions.alternatives else versions.accepts(version or "0")
        yield _Server(version, one.address, accepted)
    for package in installed:
        version = upstream(package.version)
        yield _Server(version, f"package {package.name}", versions.accepts(version))


class _Way(msgspec.Struct):
    """One alternative: its server, the driver that speaks to it, and how far it is from being there."""

    product: str
    versions: VersionRange
    server: _Server | None
    driver: str
    standing: Standing
    package: str | None = None

    @property
    def distance(self) -> tuple[int, int]:
        """How much is missing: the server first, then the driver."""
        there = self.server is not None and self.server.accepted
        server = 0 if there else 1 if self.package else 2 if self.server and self.server.accepted is None else 3
        return server, _rank(self.standing)


def _judged(need: DatabaseNeed, context: Context) -> Finding:
    survey, offers = context.survey, context.offers
    base = Finding(need=need.key, level=need.level, verdict="unmet", wanted=need.text)
    ways = [_way(product, versions, context) for product, versions in need.alternatives]
    best = min(ways, key=lambda way: way.distance)
    server, driver = best.server, best.standing
    there = server is not None and server.accepted
    name = _NAMES[best.product]
    found = f"{name} {server.version or 'of unknown version'} ({server.where})" if server else f"no {name}"
    if driver.state != "active":
        found += f"; its driver {best.driver}: {driver.found or driver.state}"
    base = replace(base, found=found, origin=Origin(server.where) if server and server.where else None)
    if there and driver.state == "active":
        return _over_network(replace(base, verdict="met", subject=best.driver), server, context)
    base = replace(base, demands=tuple(_demands(best, context)))
    remedies: list[str] = []
    if not there:
        remedies.append(_server_remedy(best, survey, offers))
    if driver.state != "active":
        remedies.append(driver.remedy or "")
    subject = best.driver if driver.state != "active" else None
    if server and server.accepted is None and not best.package:
        verdict: Verdict = "unknown" if driver.state == "active" else "unmet"
        return replace(base, verdict=verdict, remedy="; ".join(remedies), subject=subject, state=None)
    state: State | None = "installable" if best.package else driver.state if there else "unobtainable"
    return replace(base, state=state, remedy="; ".join(remedies), subject=subject, package=best.package)


def _over_network(finding: Finding, server: _Server | None, context: Context) -> Finding:
    """The finding, unless an enforcing system keeps PHP from reaching a server on another machine."""
    host = server.where.rpartition(":")[0] if server else ""
    here = not host or server is None or server.where.startswith("/") or host in _HERE
    if here or not context.survey.machine.enforcing:
        return finding
    boolean = context.offers.platform.network_database_boolean
    on = _boolean(boolean, context.survey)
    change = SwitchBoolean(boolean, "PHP reach databases over the network")
    if on is None:
        found, remedy = f"{finding.found}; SELinux may keep PHP from it", f"see whether it is on: getsebool {boolean}"
        return replace(finding, verdict="unknown", found=found, remedy=remedy)
    if on:
        return finding
    found, remedy = f"{finding.found}; SELinux keeps PHP from it", change.words(context.offers)
    return replace(finding, verdict="unmet", state="switched-off", found=found, remedy=remedy, demands=(change,))


def _boolean(name: str, survey: Survey) -> bool | None:
    """Whether a boolean of the policy is on, as the running system or else the policy store has it; None: not known."""
    running, stored = (survey.answers.get(f"text:{path}") for path in policy_texts(name))
    if running and running.there and running.lines:
        return running.lines[0].startswith("1")
    if stored is None or stored.there is None:
        return None
    return f"{name}=1" in stored.lines


def _demands(way: _Way, context: Context) -> Iterator[Change]:
    """What is to be installed and switched on."""
    # What is there and too old is upgraded with everything else, not by a plan for one application.
    present = {package.name for package in context.survey.installed or ()}
    if way.package and way.package not in present:
        yield Install(way.package, of_php=False)
    if way.standing.state != "active":
        yield from for_extension(way.standing, context)


def _rank(standing: Standing) -> int:
    return ORDER.index(standing.state) if standing.state else len(ORDER)


def _way(product: str, versions: VersionRange, context: Context) -> _Way:
    survey, offers = context.survey, context.offers
    servers = list(_servers(product, versions, survey))
    server = next((server for server in servers if server.accepted), servers[0] if servers else None)
    known = suppliers().drivers[product]
    named = {name for need in context.needs.of(ExtensionNeed) for name in need.names}
    drivers = [name for name in known if name in named] or list(known)
    standings = {name: standing(name, context) for name in drivers}
    driver = min(drivers, key=lambda name: _rank(standings[name]))
    if product == "sqlite" and server is None:
        server = _library(versions, offers)  # it comes with the driver
    way = _Way(product, versions, server, driver, standings[driver])
    elsewhere = any(database.chosen for database in survey.databases)
    if not (server and server.accepted) and not elsewhere:
        for name in suppliers().products[product]:
            offer = offers.package(name)
            if offer and versions.accepts(upstream(offer.version)):
                way.package = name
                break
    return way


def _library(versions: VersionRange, offers: Offers) -> _Server:
    offer = next((one for name in ("libsqlite3-0", "sqlite-libs") if (one := offers.package(name))), None)
    version = upstream(offer.version) if offer else None
    accepted = versions.accepts(version) if version else None if versions.alternatives else True
    return _Server(version, f"package {offer.name}" if offer else "library", accepted)


def _server_remedy(way: _Way, survey: Survey, offers: Offers) -> str:
    name = _NAMES[way.product]
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
    if survey.asked is None or not set(suppliers().products[way.product]) <= set(survey.asked.packages):
        return f"what the repositories have of {name} was not looked at: {AGAIN}"
    return f"no repository here has {name}: add one that does, or use a server elsewhere (--database HOST)"


KIND = Databases()
