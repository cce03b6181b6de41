"""``fundamentum trace``."""

import argparse
import sys
from collections.abc import Callable, Iterator, Sequence
from typing import Final

from fundamentum.catalog.quantity import size_in_words
from fundamentum.catalog.words import said
from fundamentum.check import install_line
from fundamentum.check.trace import trace
from fundamentum.cli.applications import application
from fundamentum.cli.servers import server
from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.kinds import kind_of
from fundamentum.model.need_id import NeedId
from fundamentum.model.survey import Survey
from fundamentum.needs.file import parse
from fundamentum.platforms import names, platform
from fundamentum.platforms.offers import Offers
from fundamentum.report import terminal
from fundamentum.report.remarks import write_remarks
from fundamentum.report.trace_text import write_line, write_traces


def run(options: argparse.Namespace) -> int:
    """Say everything about one extension, setting, package or command on a server."""
    if words := _install_line(options):
        return _translated(words, options)
    applications = [application(word) for word in options.applications]
    if lines := kind_of(options.name).written(NeedId(options.name)) if ":" in options.name else "":
        single = parse(f'format = 1\n[application]\nname = "traced"\n{lines}\n', options.name)
        survey = server(options, [single, *applications])
        write_remarks(survey)
        traced = entry("fundamentum.check", "need_trace").trace_need(single, survey, applications)
        write_traces(terminal.console_for(sys.stdout), [traced], survey.server)
        return 0
    kind, _, name = options.name.rpartition(":")
    packages = [name] if kind == "package" else []
    survey = server(options, applications, commands=[options.name.removeprefix("command:")], packages=packages)
    traces = trace(options.name, survey, applications, _along(survey))
    if not traces:
        raise InputError(
            options.name,
            f"no extension, setting, package or command of that name is known, on {survey.server} or at all",
        )
    write_remarks(survey)
    write_traces(terminal.console_for(sys.stdout), traces, survey.server)
    return 0


_TOOLS: Final = frozenset(
    tool for name in names() for tool in [platform(name).install(("x",))[0], *platform(name).other_installers]
)


def _install_line(options: argparse.Namespace) -> list[str]:
    """The words of a guide's install line, where that is what is asked about."""
    words = [*options.name.split(), *options.applications]
    begin = next((at for at, word in enumerate(words[:3]) if word in _TOOLS), None)
    return words[begin:] if begin is not None and len(words) > begin + 1 else []


def _translated(words: list[str], options: argparse.Namespace) -> int:
    """What each package of the line is called here today, and the line to use instead."""
    wanted = install_line.words_of(words, _TOOLS)
    former = [name for word in wanted for name in said("packages").get(word.lower(), "").split()]
    survey = server(options, [], commands=[], packages=[*wanted, *former])
    offers = Offers(survey)
    line = install_line.translated(wanted, survey, offers, _brought(survey, offers))
    write_remarks(survey)
    write_line(terminal.console_for(sys.stdout), line, survey, offers)
    return 0


def _brought(survey: Survey, offers: Offers) -> Callable[[str], Sequence[str]]:
    """The packages that one brings along, where that is worked out here."""
    if not offers.platform.resolved_here or survey.offers is None:
        return lambda name: ()
    resolver = entry("fundamentum.plan", "package_dependencies").Resolver(survey, offers)
    return lambda name: tuple(resolver.along([name]).packages)


def _along(survey: Survey) -> Callable[[str], Sequence[str]] | None:
    """What comes along with a package, in sentences; None where only the package manager itself would know."""
    offers = Offers(survey)
    if not offers.platform.resolved_here or survey.offers is None:
        return None
    dependencies = entry("fundamentum.plan", "package_dependencies")

    def told(name: str) -> Iterator[str]:
        packages = dependencies.Resolver(survey, offers).along([name])
        number = len(packages.packages)
        what = (
            f"{number} {'package' if number == 1 else 'packages'}: {', '.join(packages.packages)}"
            if number
            else "nothing"
        )
        yield f"would bring along {what}"
        yield f"{size_in_words(packages.fetch)} to fetch, {size_in_words(packages.space)} more on the disk"
        if packages.removed:
            yield f"would take away {', '.join(packages.removed)}"
        if packages.missing:
            yield f"cannot be installed: {', '.join(packages.missing)}"

    return lambda name: list(told(name))
