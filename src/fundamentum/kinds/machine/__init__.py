"""The machine: ``[host.required]`` and ``[host.recommended]``."""

from collections.abc import Iterator, Mapping
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.catalog.quantity import size_in_words
from fundamentum.effective.judged_sites import sites_of
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.directories.need import DirectoryNeed, placed
from fundamentum.kinds.machine.locales import judged_locales
from fundamentum.kinds.machine.mail import BRINGING, SENDMAIL, judged_mail
from fundamentum.kinds.machine.need import ARCHITECTURES, HostNeed, host
from fundamentum.kinds.settings.demand import DirectiveDemand
from fundamentum.kinds.table_reader import Named, Reader
from fundamentum.model.conditions import condition
from fundamentum.model.findings import AGAIN, Finding
from fundamentum.model.need_id import NeedId
from fundamentum.platforms import names, platform

_SWAP: Final = "add swap: fallocate -l SIZE /swapfile, chmod 600 /swapfile, mkswap and swapon, and a line in /etc/fstab"
_WORDS: Final = {"host:time_zone": "time zone", "host:https": "HTTPS", "host:disk": "free disk"}


class HostTable(Named):
    """The machine: memory, swap, disk, processors (">= 2"), architecture, time_zone and mail ("set"), https ("on"),
    locales ("de_DE.UTF-8")."""


class Machine(Kind[HostNeed]):
    """Memory, space, processors, architecture, time zone, and whether visitors come over HTTPS."""

    prefixes = ("host",)
    beyond_php = True
    order = 80
    tables = {"host": HostTable}
    group = "machine"

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[HostNeed]:
        yield from reader.named("host", tables["host"], host)

    def questions(self, need: HostNeed) -> Iterator[tuple[Question, str]]:
        if need.fact == "locales":
            yield "locales", "installed"
            of = [platform(family) for family in names()]
            yield from (
                ("packages", package)
                for family in of
                for name in need.names
                for package in family.locale_packages(name)
            )
            return
        if need.fact == "mail":
            yield "commands", SENDMAIL
            yield from (("packages", package) for package in BRINGING)
            return
        yield "directories", "/"  # how much space there is

    def judge(self, need: HostNeed, context: Context) -> Finding:
        return _judged(need, context)

    def written(self, need: NeedId) -> str:
        """Of those facts that are a number, at least one byte of it."""
        fact = need.names[0] if need.names else ""
        example = {"memory": "1K", "swap": "1K", "disk": "1K", "processors": "1", "https": "on"}.get(fact, "set")
        return f'[host.required]\n{fact} = "{example}"'

    def words(self, need: NeedId) -> str:
        return _WORDS.get(need, " or ".join(need.names))

    def met_in_words(self, finding: Finding) -> str:
        return f"{self.words(finding.need)} {finding.found}"


def _judged(need: HostNeed, context: Context) -> Finding:
    survey = context.survey
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=need.text, found="not known")
    machine = survey.machine
    match need.fact:
        case "locales":
            return judged_locales(need, base, context)
        case "mail":
            return judged_mail(base, context)
        case "memory" | "processors" | "swap":
            have = {"memory": machine.memory, "swap": machine.swap, "processors": machine.processors}[need.fact]
            if have is None:
                return replace(base, remedy="a file system does not tell: survey the running server")
            # A little of the memory is kept by the kernel and the firmware: 2G are sold, 1.9G are seen.
            enough = have >= need.amount * (0.9 if need.fact == "memory" else 1)
            actual = str(have) if need.fact == "processors" else size_in_words(have)
            remedy = _SWAP if need.fact == "swap" else f"give the machine more {need.fact}"
            return replace(base, verdict="met" if enough else "unmet", found=actual, remedy=None if enough else remedy)
        case "disk":
            return _disk(need, base, context)
        case "architecture":
            name = ARCHITECTURES.get(survey.system.architecture, survey.system.architecture)
            if not name:
                return replace(base, remedy="the package database does not tell")
            good = name in need.names
            other = None if good else "use a machine of another architecture"
            return replace(base, verdict="met" if good else "unmet", found=name, remedy=other)
        case "time_zone":
            return _zone(base, context)
        case "https":
            return _https(base, context)


def _disk(need: HostNeed, base: Finding, context: Context) -> Finding:
    """Free space where the application keeps its files: its first writable directory, else its document root."""
    survey, target = context.survey, context.target
    writable = [need.path for need in context.needs.of(DirectoryNeed) if need.access == "writable"]
    kept = [placed(path, survey, target) for path in writable]
    roots = [site.root for site in sites_of(survey, target) if site.root]
    places = {place.path: place for place in survey.places}
    looked = [*(place for place in kept if place), *(places[path] for path in (*roots, "/") if path in places)]
    place = next((place for place in looked if place.free is not None), None)
    if place is None or place.free is None:
        why = AGAIN if not looked else "a file system that does not run does not tell: survey the running server"
        return replace(base, remedy=why)
    enough = place.free >= need.amount
    remedy = None if enough else f"make room in {place.path}: {need.text.removeprefix('>=').strip()} have to be free"
    actual = f"{size_in_words(place.free)} free in {place.path}"
    return replace(base, verdict="met" if enough else "unmet", found=actual, remedy=remedy)


def _zone(base: Finding, context: Context) -> Finding:
    survey, target = context.survey, context.target
    setting = target.runtime.settings.get("date.timezone")
    if setting is None or setting.value is None:
        return replace(base, remedy=f"see {setting.origin}" if setting else "this runtime has no such setting")
    if setting.value and not setting.origin.built_in:
        return replace(base, verdict="met", found=setting.value, origin=setting.origin)
    zone = survey.machine.zone or "UTC"
    place = target.runtime.ini_place
    words = f"nothing sets it{f', the machine has {survey.machine.zone}' if survey.machine.zone else ''}"
    remedy = f"set date.timezone = {zone} in {place}"
    # Where an application names a zone itself, that one will do.
    demand = DirectiveDemand(target, "date.timezone", (condition("date.timezone", f"= {zone}"),), True, weak=True)
    return replace(base, verdict="unmet", found=words, origin=setting.origin, remedy=remedy, demands=(demand,))


def _https(base: Finding, context: Context) -> Finding:
    sites = sites_of(context.survey, context.target)
    if not sites:
        return replace(base, remedy="no web server's configuration leads to this runtime")
    secure = next((site for site in sites if site.secure), None)
    if secure:
        return replace(base, verdict="met", found=f"{secure.name} has it", origin=secure.origin)
    names = ", ".join(dict.fromkeys(site.name for site in sites))
    remedy = "set up a certificate there; if a proxy in front does this already, accept this on record"
    return replace(base, verdict="unmet", found=f"{names} without it", origin=sites[0].origin, remedy=remedy)


KIND = Machine()
