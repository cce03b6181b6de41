"""Locales that an application sets: whether the system has them."""

from msgspec.structs import replace

from fundamentum.changes.locale import ANSWER, MakeLocale
from fundamentum.changes.packages import Install
from fundamentum.kinds.base import Context
from fundamentum.kinds.machine.need import HostNeed
from fundamentum.model.findings import AGAIN, Finding
from fundamentum.model.locale_names import spelled_alike


def judged_locales(need: HostNeed, base: Finding, context: Context) -> Finding:
    """Whether all of them are there; ``setlocale`` takes a name in any spelling of its character set."""
    answer = context.survey.answers.get(ANSWER)
    if answer is None or answer.there is None:
        asked = context.survey.asked
        looked = asked is not None and "installed" in asked.locales
        return replace(base, remedy="see what locale -a says there" if looked else AGAIN)
    there = {spelled_alike(name) for name in answer.lines} | {"c", "posix"}
    missing = [name for name in need.names if spelled_alike(name) not in there]
    if not missing:
        return replace(base, verdict="met", found=", ".join(need.names))
    base = replace(base, verdict="unmet", state="installable", found=f"{', '.join(missing)} not there")
    of, offers = context.offers.platform, context.offers
    packages = dict.fromkeys(package for name in missing for package in of.locale_packages(name))
    installed = {package.name for package in context.survey.installed or ()}
    wanted = [package for package in packages if package not in installed]
    if not packages or any(offers.package(package) is None for package in wanted):
        return replace(base, state="unobtainable", remedy=f"add them to the system: {', '.join(missing)}")
    demands = [Install(package, of_php=True) for package in wanted]
    made = [MakeLocale(name) for name in missing] if of.makes_locales else []
    words = [*(change.words(offers) for change in demands), *(change.words(offers) for change in made)]
    return replace(base, remedy="; ".join(words), demands=(*demands, *made))
