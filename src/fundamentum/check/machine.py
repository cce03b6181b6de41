"""The machine: memory, space, processors, architecture, time zone, and whether visitors come over HTTPS."""

from msgspec.structs import replace

from fundamentum.check import directories
from fundamentum.check.chain import in_words, sites_of
from fundamentum.model.findings import AGAIN, Finding, Target
from fundamentum.model.needs import Needs
from fundamentum.model.surrounding_needs import ARCHITECTURES, HostNeed
from fundamentum.model.survey import Survey


def judge(need: HostNeed, needs: Needs, survey: Survey, target: Target) -> Finding:
    """The finding for one fact."""
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=need.text, found="not known")
    machine = survey.machine
    match need.fact:
        case "memory" | "processors":
            have = machine.memory if need.fact == "memory" else machine.processors
            if have is None:
                return replace(base, remedy="a file system does not tell: survey the running server")
            # A little of the memory is kept by the kernel and the firmware: 2G are sold, 1.9G are seen.
            enough = have >= need.amount * (0.9 if need.fact == "memory" else 1)
            found = in_words(have) if need.fact == "memory" else str(have)
            remedy = f"give the machine more {need.fact}"
            return replace(base, verdict="met" if enough else "unmet", found=found, remedy=None if enough else remedy)
        case "disk":
            return _disk(need, base, needs, survey, target)
        case "architecture":
            name = ARCHITECTURES.get(survey.system.architecture, survey.system.architecture)
            if not name:
                return replace(base, remedy="the package database does not tell")
            good = name in need.names
            other = None if good else "use a machine of another architecture"
            return replace(base, verdict="met" if good else "unmet", found=name, remedy=other)
        case "time_zone":
            return _zone(base, survey, target)
        case "https":
            return _https(base, survey, target)


def _disk(need: HostNeed, base: Finding, needs: Needs, survey: Survey, target: Target) -> Finding:
    """Free space where the application keeps its files: its first writable directory, else its document root."""
    kept = [directories.placed(one, survey, target) for one in needs.directories if one.access == "writable"]
    roots = [site.root for site in sites_of(survey, target) if site.root]
    places = {place.path: place for place in survey.places}
    looked = [*(place for place in kept if place), *(places[path] for path in (*roots, "/") if path in places)]
    place = next((one for one in looked if one.free is not None), None)
    if place is None or place.free is None:
        why = AGAIN if not looked else "a file system that does not run does not tell: survey the running server"
        return replace(base, remedy=why)
    enough = place.free >= need.amount
    remedy = None if enough else f"make room in {place.path}: {need.text.removeprefix('>=').strip()} have to be free"
    found = f"{in_words(place.free)} free in {place.path}"
    return replace(base, verdict="met" if enough else "unmet", found=found, remedy=remedy)


def _zone(base: Finding, survey: Survey, target: Target) -> Finding:
    setting = target.runtime.settings.get("date.timezone")
    if setting is None or setting.value is None:
        return replace(base, remedy=f"see {setting.origin}" if setting else "this runtime has no such setting")
    if setting.value and not setting.origin.built_in:
        return replace(base, verdict="met", found=setting.value, origin=setting.origin)
    zone = survey.machine.zone or "UTC"
    place = target.runtime.ini_file or "php.ini"
    words = f"nothing sets it{f', the machine has {survey.machine.zone}' if survey.machine.zone else ''}"
    remedy = f"set date.timezone = {zone} in {place}"
    return replace(base, verdict="unmet", found=words, origin=setting.origin, remedy=remedy)


def _https(base: Finding, survey: Survey, target: Target) -> Finding:
    sites = sites_of(survey, target)
    if not sites:
        return replace(base, remedy="no web server's configuration leads to this runtime")
    secure = next((site for site in sites if site.secure), None)
    if secure:
        return replace(base, verdict="met", found=f"{secure.name} has it", origin=secure.origin)
    names = ", ".join(dict.fromkeys(site.name for site in sites))
    remedy = "set up a certificate there; if a proxy in front does this already, accept this on record"
    return replace(base, verdict="unmet", found=f"{names} without it", origin=sites[0].origin, remedy=remedy)
