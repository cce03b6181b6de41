"""Services that an application speaks to, beside databases: ``[services]``."""

import re
from collections.abc import Iterator, Mapping
from typing import Any

import msgspec
from msgspec.structs import replace

from fundamentum.catalog.services import Service, services
from fundamentum.changes.base import Change
from fundamentum.changes.packages import Install
from fundamentum.changes.service import Restart
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.kinds.extensions.activation import for_extension
from fundamentum.kinds.extensions.state import ORDER, Standing, standing
from fundamentum.kinds.table_reader import Alternatives, Listing, Reader, as_text
from fundamentum.model.findings import AGAIN, Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.versions import VersionRange
from fundamentum.platforms.offers import upstream


class ServicesTable(Listing):
    """Services the application speaks to: "redis >= 6 | memcached", "smtp"; | separates alternatives."""


class ServiceNeed(Value, frozen=True):
    """One service, or any one of several."""

    alternatives: Alternatives
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId("service:" + "|".join(name for name, _ in self.alternatives))

    @property
    def text(self) -> str:
        """As it is written."""
        return as_text(self.alternatives)


class Services(Kind[ServiceNeed]):
    """Services: there, running, new enough, each with the extension of PHP that speaks to it."""

    prefixes = ("service",)
    beyond_php = True
    order = 55
    tables = {"services": ServicesTable}

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[ServiceNeed]:
        for level, alternatives in reader.alternatives("services", tables["services"], services):
            yield ServiceNeed(alternatives, level)

    def questions(self, need: ServiceNeed) -> Iterator[tuple[Question, str]]:
        for name, _ in need.alternatives:
            service = services()[name]
            yield "greetings", name
            yield from (("packages", package) for package in service.packages)
            yield from (("sockets", path) for path in service.sockets)
            yield from (("sockets", f"127.0.0.1:{port}") for port in service.ports)

    def judge(self, need: ServiceNeed, context: Context) -> Finding:
        """The finding for the alternative with the least to do."""
        findings = [_judged(name, versions, need, context) for name, versions in need.alternatives]
        order = {"met": 0, "unknown": 2}
        return min(findings, key=lambda finding: order.get(finding.verdict, 1 if finding.demands else 3))

    def written(self, need: NeedId) -> str:
        return f'[services]\nrequired = ["{" | ".join(need.names)}"]'

    def met_in_words(self, finding: Finding) -> str:
        return finding.found or ""


class _Server(msgspec.Struct, frozen=True):
    """A service as it stands: whether it runs, and in which version; None: not known."""

    runs: bool | None
    version: str | None
    where: str
    package: str | None


def _server(name: str, service: Service, context: Context) -> _Server:
    survey = context.survey
    installed = [installed for installed in survey.installed or () if re.fullmatch(service.installed, installed.name)]
    package = installed[0].name if installed else None
    version = next((upstream(server.version) for server in installed if upstream(server.version)), None)
    greeting = survey.answers.get(f"greeting:{name}")
    if greeting and greeting.there:
        told, address = (*greeting.lines, "", "")[:2]
        return _Server(True, told or version, address, package)
    places = [*service.sockets, *(f"127.0.0.1:{port}" for port in service.ports)]
    answers = [answer for place in places if (answer := survey.answers.get(f"socket:{place}")) is not None]
    listening = any(answer.there for answer in answers)
    told_not = greeting is not None and not listening
    unseen = not answers or any(answer.there is None for answer in answers)
    runs = True if listening and package else False if told_not else None if unseen else False
    return _Server(runs, version, f"package {package}" if package else "", package)


def _judged(name: str, versions: VersionRange, need: ServiceNeed, context: Context) -> Finding:
    service = services()[name]
    server = _server(name, service, context)
    base = Finding(need=need.key, level=need.level, verdict="unmet", wanted=need.text)
    shown = " ".join(part for part in (service.title, server.version, f"({server.where})") if part and part != "()")
    driver = _driver(service, context)
    driver = None if driver and driver.state == "active" else driver
    demands: list[Change] = list(for_extension(driver, context)) if driver and driver.state else []
    lacking = f"; its extension {driver.name}: {driver.found}" if driver else ""
    advice = [driver.remedy] if driver and driver.remedy else []
    if not server.package and not server.runs:
        return _absent(replace(base, found=f"no {service.title}{lacking}"), name, versions, demands, advice, context)
    if versions.alternatives and server.version is None:
        remedy = f"{service.title} tells its version to nobody who has not logged in: look yourself"
        return replace(base, verdict="unknown", found=shown, remedy=remedy)
    if server.version and not versions.accepts(server.version):
        return replace(base, found=shown, **_newer(name, versions, server, context))
    if server.runs is False:
        starting = _starting(service, context)
        remedy = f"start it: {starting.words(context.offers)}" if starting else "start it"
        changes = (*demands, *([starting] if starting else []))
        actual = f"{shown}, which does not run{lacking}"
        return replace(base, state="switched-off", found=actual, remedy="; ".join([remedy, *advice]), demands=changes)
    if driver:
        actual = f"{shown}{lacking}"
        return replace(base, state=driver.state, found=actual, remedy="; ".join(advice), demands=tuple(demands))
    if server.runs is None:
        return replace(base, verdict="met", found=shown, remark="whether it runs cannot be seen from here")
    return replace(base, verdict="met", found=shown)


def _driver(service: Service, context: Context) -> Standing | None:
    """The extension that speaks to it: one that the application names, else the one with the least to do."""
    named = {name for need in context.needs.of(ExtensionNeed) for name in need.names}
    drivers = [name for name in service.drivers if name in named] or list(service.drivers)
    standings = [standing(name, context) for name in drivers]
    return min(standings, key=lambda each: ORDER.index(each.state) if each.state else len(ORDER), default=None)


def _absent(
    base: Finding, name: str, versions: VersionRange, demands: list[Change], advice: list[str], context: Context
) -> Finding:
    service, offers, asked = services()[name], context.offers, context.survey.asked
    offered = [package for package in service.packages if offers.package(package)]
    if service.decided and offered:
        return replace(base, state="installable", remedy=f"decide: install one of {', '.join(offered)}, and set it up")
    for package in service.packages:
        offer = offers.package(package)
        if offer and versions.accepts(upstream(offer.version)):
            changes: list[Change] = [Install(package, of_php=False), *demands]
            if starting := _starting(service, context):
                changes.append(starting)
            words = [f"install {package} {upstream(offer.version)} ({offer.source})", *advice]
            return replace(base, state="installable", remedy="; ".join(words), package=package, demands=tuple(changes))
    if asked is None or not set(service.packages) <= set(asked.packages):
        actual = (base.found or "").replace(f"no {service.title}", "not known", 1)
        return replace(base, verdict="unknown", found=actual, remedy=f"the survey did not look for it: {AGAIN}")
    remedy = f"no repository here has {service.title} {versions}".removesuffix(" any")
    return replace(base, state="unobtainable", remedy=f"{remedy}: add one that does, or use a server elsewhere")


def _newer(name: str, versions: VersionRange, server: _Server, context: Context) -> dict[str, Any]:
    offer = context.offers.package(server.package) if server.package else None
    if offer and versions.accepts(upstream(offer.version)):
        return {"state": "installable", "remedy": f"upgrade {offer.name} to {upstream(offer.version)} ({offer.source})"}
    remedy = f"no repository here has {services()[name].title} {versions}: add one that does"
    return {"state": "unobtainable", "remedy": remedy}


def _starting(service: Service, context: Context) -> Restart | None:
    of = context.offers.platform
    if not of.carried_out:
        return None
    called = [name for name in service.services if of.knows_service(name)]
    return Restart(called[0], "start", reads=False) if called else None


KIND = Services()
