"""Programs that an application runs: ``[commands]``."""

from collections.abc import Iterator, Mapping
from typing import Any

from msgspec.structs import replace

from fundamentum.changes.packages import Install
from fundamentum.effective.confinement import judge_command
from fundamentum.effective.file_access import SEARCH, account_of, allowed, barred
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.table_reader import Alternatives, Listing, Reader, as_text
from fundamentum.model.findings import AGAIN, Finding, Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.origin import Origin
from fundamentum.model.packages import Offer
from fundamentum.model.promises import Promise
from fundamentum.model.safe_text import is_path
from fundamentum.model.surrounding_facts import Command
from fundamentum.model.survey import Survey
from fundamentum.model.versions import VersionRange
from fundamentum.platforms.offers import upstream


class CommandsTable(Listing):
    """Programs the application runs: "unzip", "git >= 2.30"; | separates alternatives."""


class CommandNeed(Value, frozen=True):
    """One program, or any one of several."""

    alternatives: Alternatives
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId("command:" + "|".join(name for name, _ in self.alternatives))

    @property
    def text(self) -> str:
        """As it is written."""
        return as_text(self.alternatives)


class Commands(Kind[CommandNeed]):
    """Programs: there, new enough, and to be run by the user as whom PHP works."""

    prefixes = ("command",)
    beyond_php = True
    order = 60
    tables = {"commands": CommandsTable}

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[CommandNeed]:
        for level, alternatives in reader.alternatives("commands", tables["commands"]):
            yield CommandNeed(alternatives, level)

    def questions(self, need: CommandNeed) -> Iterator[tuple[Question, str]]:
        yield from (("commands", name) for name, _ in need.alternatives)

    def judge(self, need: CommandNeed, context: Context) -> Finding:
        """The finding for the alternative with the least to do."""
        findings = [_judged(name, versions, need, context) for name, versions in need.alternatives]
        order = {"met": 0, "unknown": 2}
        return min(findings, key=lambda finding: order.get(finding.verdict, 1 if finding.package else 3))

    def promised(self, finding: Finding, context: Context) -> Iterator[Promise]:
        """That PHP's user may run it, where it is."""
        if finding.origin and is_path(finding.origin.file):
            yield Promise(finding.need, "run", finding.origin.file, "")

    def met_in_words(self, finding: Finding) -> str:
        """Its full path, which applications ask for."""
        return finding.found or " or ".join(finding.need.names)


def _judged(name: str, versions: VersionRange, need: CommandNeed, context: Context) -> Finding:
    finding = _one(name, versions, need, context)
    package = finding.package if finding.verdict == "unmet" else None
    if package is None:
        return finding
    present = {installed.name: installed.version for installed in context.survey.installed or ()}
    if package not in present:
        return replace(finding, demands=(Install(package, of_php=False),))
    offer = context.offers.package(package)
    if finding.origin is None and offer and offer.version == present[package]:  # installed, and its file is gone
        return replace(finding, demands=(Install(package, of_php=False, again=True),))
    # What is there and too old is upgraded with everything else, not by a plan for one application.
    return finding


def _one(name: str, versions: VersionRange, need: CommandNeed, context: Context) -> Finding:
    survey, target, offers = context.survey, context.target, context.offers
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=need.text)
    fact = next((command for command in survey.commands if command.name == name), None)
    if fact is None:
        return replace(base, found="not known", remedy=f"the survey did not look for {name}: {AGAIN}")
    package = next((package for package in fact.offered if offers.package(package)), None)
    offer = offers.package(package) if package else None
    if fact.path is None:
        there = offer is not None and any(known.name == offer.name for known in survey.installed or ())
        return _absent(base, fact, versions, offer, "upgrade" if there else "install")
    installed = next((package for package in survey.installed or () if package.name == fact.package), None)
    version = upstream(installed.version) if installed else fact.version or None
    base = replace(base, found=f"{fact.path}{f' {version}' if version else ''}", origin=Origin(fact.path))
    if bar := _bar(fact.path, survey, target):
        return replace(base, verdict="unmet", found=f"{fact.path}, which may not be run", remedy=bar)
    if versions.alternatives and version is None:
        remedy = f"{fact.path} came with no package: ask it, {name} --version (--ask does, as nobody)"
        return replace(base, remedy=remedy)
    if version is None or versions.accepts(version):
        return judge_command(replace(base, verdict="met", subject=name), fact.path, target)
    if offer and versions.accepts(upstream(offer.version)):
        remedy = f"upgrade {offer.name} to {upstream(offer.version)} ({offer.source})"
        return replace(base, verdict="unmet", state="installable", remedy=remedy, package=offer.name)
    remedy = f"no package index here has {name} {versions}: add one that does"
    return replace(base, verdict="unmet", state="unobtainable", remedy=remedy)


def _absent(base: Finding, fact: Command, versions: VersionRange, offer: Offer | None, verb: str) -> Finding:
    base = replace(base, verdict="unmet", found=f"{fact.name} is not there", state="unobtainable")
    if offer is None:
        remedy = f"no package index here names {fact.name}: find out which package brings it, or install it by hand"
        return replace(base, remedy=remedy)
    if versions.accepts(upstream(offer.version)):
        remedy = f"{verb} {offer.name} ({offer.source})"
        return replace(base, state="installable", remedy=remedy, package=offer.name)
    has = f"{offer.source} has {upstream(offer.version)} only ({offer.name})"
    return replace(base, remedy=f"{has}: add a package source that has {fact.name} {versions}")


def _bar(path: str, survey: Survey, target: Target) -> str | None:
    """Why the user as whom PHP works may not run it, as what to look at."""
    places = {place.path: place for place in survey.places}
    place, account = places.get(path), account_of(survey, target)
    if place is None or account is None:
        return None
    shut = barred(place, places, account)
    if not shut and allowed(place, account) & SEARCH:
        return None
    return f"let {account.name} run it: look at the mode of {shut[0].path if shut else path}"


KIND = Commands()
