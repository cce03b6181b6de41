"""Which of several database servers would do, and how far each is from being there."""

import re
from collections.abc import Iterator
from typing import Final, Literal

import msgspec

from fundamentum.catalog.suppliers import suppliers
from fundamentum.kinds.base import Context
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.kinds.extensions.state import ORDER, Standing, standing
from fundamentum.kinds.table_reader import as_text
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.survey import Survey
from fundamentum.model.versions import VersionRange
from fundamentum.platforms.offers import Offers, upstream

Product = Literal["mariadb", "mysql", "postgresql", "sqlite"]
PRODUCTS: Final[tuple[Product, ...]] = ("mariadb", "mysql", "postgresql", "sqlite")
TITLES: Final = {"mariadb": "MariaDB", "mysql": "MySQL", "postgresql": "PostgreSQL", "sqlite": "SQLite"}


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


class Server(msgspec.Struct, frozen=True):
    """One database server that would do, or not."""

    version: str | None
    where: str
    accepted: bool | None
    """None: its version is not known."""


def servers_of(product: str, versions: VersionRange, survey: Survey) -> Iterator[Server]:
    """Those of a product that answer or are installed."""
    chosen = any(database.chosen for database in survey.databases)
    answering = [
        database for database in survey.databases if database.product == product and (database.chosen or not chosen)
    ]
    pattern = suppliers().installed[product]
    packages = [] if chosen and product != "sqlite" else survey.installed or ()
    installed = [package for package in packages if re.fullmatch(pattern, package.name) and upstream(package.version)]
    for server in answering:
        version = server.version or next((upstream(package.version) for package in installed), None)
        accepted = None if version is None and versions.alternatives else versions.accepts(version or "0")
        yield Server(version, server.address, accepted)
    for package in installed:
        version = upstream(package.version)
        yield Server(version, f"package {package.name}", versions.accepts(version))


class Way(msgspec.Struct):
    """One alternative: its server, the driver that speaks to it, and how far it is from being there."""

    product: str
    versions: VersionRange
    server: Server | None
    driver: str
    standing: Standing
    package: str | None = None
    runs: bool | None = None
    """Whether its server is seen to wait for somebody; None: that cannot be seen."""

    @property
    def distance(self) -> tuple[int, int]:
        """How much is missing: the server first, then the driver."""
        there = self.server is not None and self.server.accepted
        if there:
            return int(self.runs is False), _rank(self.standing)
        unknown = self.server is not None and self.server.accepted is None
        return 1 if self.package else 2 if unknown else 3, _rank(self.standing)


def _rank(standing: Standing) -> int:
    return ORDER.index(standing.state) if standing.state else len(ORDER)


def best_way(need: DatabaseNeed, context: Context) -> Way:
    """The alternative with the least to do."""
    ways = [way_of(product, versions, context) for product, versions in need.alternatives]
    return min(ways, key=lambda way: way.distance)


def way_of(product: str, versions: VersionRange, context: Context) -> Way:
    """One alternative as it stands."""
    survey, offers = context.survey, context.offers
    servers = list(servers_of(product, versions, survey))
    server = next((server for server in servers if server.accepted), servers[0] if servers else None)
    known = suppliers().drivers[product]
    named = {name for need in context.needs.of(ExtensionNeed) for name in need.names}
    drivers = [name for name in known if name in named] or list(known)
    standings = {name: standing(name, context) for name in drivers}
    driver = min(drivers, key=lambda name: _rank(standings[name]))
    if product == "sqlite" and server is None:
        server = _library(versions, offers)  # it comes with the driver
    way = Way(product, versions, server, driver, standings[driver], runs=_runs(product, survey))
    elsewhere = any(database.chosen for database in survey.databases)
    if not (server and server.accepted) and not elsewhere:
        for name in suppliers().products[product]:
            offer = offers.package(name)
            if offer and versions.accepts(upstream(offer.version)):
                way.package = name
                break
    return way


def _runs(product: str, survey: Survey) -> bool | None:
    """Whether a server of that product, or one that waits in the same places, is there to be reached."""
    if product == "sqlite" or any(database.chosen or database.product == product for database in survey.databases):
        return True
    places = suppliers().places[product]
    answers = [answer.there for place in places if (answer := survey.answers.get(f"socket:{place}")) is not None]
    if any(answers):
        return True
    return None if None in answers or not answers else False


def _library(versions: VersionRange, offers: Offers) -> Server:
    offer = next((package for name in ("libsqlite3-0", "sqlite-libs") if (package := offers.package(name))), None)
    version = upstream(offer.version) if offer else None
    accepted = versions.accepts(version) if version else None if versions.alternatives else True
    return Server(version, f"package {offer.name}" if offer else "library", accepted)
