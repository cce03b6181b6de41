"""One question answered in full: where an extension, a setting or a package stands on a server, and why.

Every place it is set or could come from, in the order in which they count; what wins for each runtime; which package
brings it, from which repository; which applications need it.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Final

import msgspec

from fundamentum.catalog import (
    canonical,
    catalogued,
    directive_gone,
    extension_gone,
    facts,
    inside,
    is_unlimited,
    known_branches,
)
from fundamentum.catalog.symbols import known_extensions
from fundamentum.effective.file_access import SEARCH, account_of, allowed, barred
from fundamentum.effective.followed_values import value_that_counts
from fundamentum.effective.site_configuration import views
from fundamentum.kinds import in_words
from fundamentum.kinds.base import Context
from fundamentum.kinds.commands import CommandNeed
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.kinds.extensions.absent import AbsentNeed
from fundamentum.kinds.extensions.state import standing
from fundamentum.kinds.limits.limit_chain import DIRECTIVES
from fundamentum.kinds.limits.need import LimitNeed
from fundamentum.kinds.loaders import LoaderNeed
from fundamentum.kinds.settings.setting_verdict import SettingNeed
from fundamentum.model.findings import Target
from fundamentum.model.needs import Needs
from fundamentum.model.packages import Offer
from fundamentum.model.php import Module, Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers

ACCESS: Final = {1: "scripts", 2: "each directory's own file", 4: "the system's files and pools"}


class Place(msgspec.Struct, frozen=True):
    """One place that has a say, in the order in which they are read."""

    where: str
    says: str
    wins: bool = False


class InRuntime(msgspec.Struct, frozen=True):
    """How it is in one runtime."""

    runtime: str
    now: str
    """The state or value that counts."""
    places: tuple[Place, ...] = ()
    remedy: str = ""


class Source(msgspec.Struct, frozen=True):
    """A package that brings it."""

    package: str
    version: str
    origin: str
    """The repository, or ``installed``."""
    branch: str = ""
    brings: str = ""


class Wanted(msgspec.Struct, frozen=True):
    """An application that needs it."""

    application: str
    level: str
    wanted: str
    why: str = ""


class Trace(msgspec.Struct, frozen=True):
    """Everything about one extension, setting or package."""

    kind: str
    """``extension``, ``setting``, ``package``, ``command``, or the beginning of another need's name."""
    name: str
    facts: tuple[str, ...]
    """What is so wherever PHP runs."""
    runtimes: tuple[InRuntime, ...]
    sources: tuple[Source, ...]
    wanted_by: tuple[Wanted, ...]


def trace(
    name: str, survey: Survey, applications: Sequence[Needs] = (), along: Callable[[str], Sequence[str]] | None = None
) -> tuple[Trace, ...]:
    """What a name means on this server; it may mean several things, or nothing.

    ``along`` tells in sentences what comes along with a package, where that can be worked out.
    """
    kind, _, rest = name.partition(":")
    wanted = {kind: rest} if rest and kind in ("extension", "setting", "package", "command") else {}
    offers = Offers(survey)
    traces: list[Trace] = []
    if extension := wanted.get("extension") or ("" if wanted else name):
        traces += _extension(canonical(extension), survey, offers, applications)
    if setting := wanted.get("setting") or ("" if wanted else name):
        traces += _setting(setting, survey, applications)
    if package := wanted.get("package") or ("" if wanted else name):
        packages = list(_package(package, survey, offers, applications, along))
        traces += packages or (_no_package(package, survey) if wanted else ())
    if command := wanted.get("command") or ("" if wanted else name):
        traces += _command(command, survey, offers, applications)
    return tuple(traces)


def _extension(name: str, survey: Survey, offers: Offers, applications: Sequence[Needs]) -> Iterator[Trace]:
    modules = [(branch, module) for branch in survey.branches for module in branch.modules if module.name == name]
    loaded = any(extension.name == name for runtime in survey.runtimes for extension in runtime.extensions)
    wanted = tuple(
        Wanted(needs.name, need.level, " or ".join(need.names), needs.note(need.key) or "")
        for needs in applications
        for need in needs.of(ExtensionNeed)
        if name in need.names
    ) + tuple(
        Wanted(needs.name, need.level, need.name, needs.note(need.key) or "")
        for needs in applications
        for need in needs.of(LoaderNeed)
        if canonical(need.name) == name
    )
    wanted += tuple(
        Wanted(needs.name, need.level, "that it is not loaded", needs.note(need.key) or "")
        for needs in applications
        for need in needs.of(AbsentNeed)
        if canonical(need.name) == name
    )
    known = name in known_extensions() or any(name in catalogued(b) for b in known_branches() if b >= "7.4")
    packages = [offer for offer in survey.offers or () if name in offers.extensions_in(offer)]
    if not (modules or loaded or wanted or packages or known):
        return
    about = []
    if gone := extension_gone(name, "99.0"):
        about.append(f"gone from PHP itself with {gone}")
    about += [f"part of PHP {branch.branch} itself" for branch in survey.branches if inside(name, branch.branch, "fpm")]
    about += [f"file {module.path}{_owned(module)}" for _, module in modules]
    runtimes = []
    for runtime in survey.runtimes:
        now = standing(name, Context(Needs(""), survey, Target(runtime, "traced"), offers))
        lines = [extension for extension in runtime.extensions if extension.name == name]
        working = next((line for line in lines if line.fault is None), None)
        places = tuple(
            Place(str(line.origin), "loads it" if line.fault is None else f"fails: {line.fault.words}", line is working)
            for line in lines
        )
        runtimes.append(InRuntime(runtime.label, f"{now.state or 'unknown'}: {now.found}", places, now.remedy or ""))
    owners = {module.package for _, module in modules if module.package}
    installed = [
        Source(package.name, package.version, "installed", brings=name)
        for package in survey.installed or ()
        if package.name in owners
    ]
    yield Trace("extension", name, tuple(about), tuple(runtimes), (*installed, *_offered(packages, offers)), wanted)


def _owned(module: Module) -> str:
    parts = (
        f"of {module.package}" if module.package else "",
        f"switched on by {module.switch}" if module.switch else "",
        f"does not load: the file {module.misfit}" if module.misfit else "",
    )
    words = ", ".join(part for part in parts if part)
    return f" ({words})" if words else ""


def _offered(packages: Iterable[Offer], offers: Offers) -> Iterator[Source]:
    for offer in packages:
        parts = (offer.source, offer.shut_out, "never installed: pinned" if offer.priority < 0 else "")
        origin = ", ".join(part for part in parts if part)
        yield Source(offer.name, offer.version, origin, offers.branch_of(offer) or "")


def _setting(name: str, survey: Survey, applications: Sequence[Needs]) -> Iterator[Trace]:
    known = [branch for branch in ("7.4", "8.2", "8.4") if name in facts(branch).directives]
    wanted = tuple(
        Wanted(needs.name, need.level, need.condition.text, needs.note(need.key) or "")
        for needs in applications
        for need in needs.of(SettingNeed)
        if need.name == name
    ) + tuple(
        Wanted(needs.name, need.level, f"{in_words(need.key)} {need.text}", needs.note(need.key) or "")
        for needs in applications
        for need in needs.of(LimitNeed)
        if name in DIRECTIVES[need.limit]
    )
    if not known and not wanted and not any(name in runtime.settings for runtime in survey.runtimes):
        return
    about = []
    if gone := directive_gone(name, "99.0"):
        about.append(f"gone from PHP with {gone}")
    if known:
        directive = facts(known[-1]).directives[name]
        where = [words for bit, words in ACCESS.items() if directive.access & bit]
        about.append(f"comes with {directive.owner}; may be set in {', '.join(where)}")
    runtimes = []
    for runtime in survey.runtimes:
        setting = runtime.settings.get(name)
        if setting is None:
            runtimes.append(
                InRuntime(runtime.label, "not known to this PHP: its extension is not loaded" if known else "not there")
            )
            continue
        runtimes.append(_in_runtime(name, runtime, runtime.label))
        served = [site for site in survey.sites if site.runtime == runtime.label]
        for site, below, view in views(runtime, served, served):
            if view.settings[name] != setting:
                part = f"{site.name}{f' in {below}' if below else ''}"
                runtimes.append(_in_runtime(name, view, f"{runtime.label} for {part}"))
    yield Trace("setting", name, tuple(about), tuple(runtimes), (), wanted)


def _in_runtime(name: str, runtime: Runtime, label: str) -> InRuntime:
    """The value in one runtime, or as one site meets it, with every place that has a say."""
    setting = runtime.settings[name]
    value = "not known" if setting.value is None else setting.value or "empty"
    counts = value_that_counts(name, setting.value or "", Target(runtime, "traced"))
    if setting.value is not None and is_unlimited(name, counts):
        value += " (no limit)"
    elif setting.value is not None and counts != setting.value:
        value += f", which counts as {counts}"
    if setting.origin.set_in in runtime.stale:
        value += "; the running process started before that"
    if runtime.answer and name in runtime.answer.settings:
        value += f"; the running pool has {runtime.answer.settings[name] or 'nothing'}"
    return InRuntime(label, value, tuple(_places(name, runtime)))


def _places(name: str, runtime: Runtime) -> Iterator[Place]:
    """The built-in default, then every line that sets it, in the order in which they are read."""
    setting = runtime.settings[name]
    default = facts(runtime.branch).default(name, runtime.sapi)
    yield Place("built-in", "not known" if default is None else default or "empty", setting.origin.built_in)
    for lost in reversed(setting.overridden):
        yield Place(str(lost.origin), "?" if lost.value is None else lost.value)
    if not setting.origin.built_in:
        yield Place(str(setting.origin), "not known" if setting.value is None else setting.value or "empty", True)


def _no_package(name: str, survey: Survey) -> Iterator[Trace]:
    """That a package is not there to be had, where that is known."""
    if survey.offers is not None and survey.asked and name in survey.asked.packages:
        sources = ", ".join(dict.fromkeys(repository.name for repository in survey.repositories)) or "no package source"
        release = survey.system.name or "this system"
        yield Trace("package", name, (f"not to be had in {release}: looked in {sources}",), (), (), ())


def _package(
    name: str,
    survey: Survey,
    offers: Offers,
    applications: Sequence[Needs],
    along: Callable[[str], Sequence[str]] | None,
) -> Iterator[Trace]:
    installed = [package for package in survey.installed or () if package.name == name]
    packages = [offer for offer in survey.offers or () if offer.name == name]
    if not installed and not packages:
        return
    brings = {extension for offer in packages for extension in offers.extensions_in(offer)}
    brings |= {module.name for branch in survey.branches for module in branch.modules if module.package == name}
    about = [f"brings {', '.join(sorted(brings))}"] if brings else []
    about += along(name) if along and packages and not installed else []
    about += ["kept at its version (held)" for package in installed if package.held]
    sources = [Source(package.name, package.version, "installed") for package in installed] + list(
        _offered(packages, offers)
    )
    wanted = tuple(
        Wanted(needs.name, need.level, " or ".join(need.names), needs.note(need.key) or "")
        for needs in applications
        for need in needs.of(ExtensionNeed)
        if brings.intersection(need.names)
    )
    yield Trace("package", name, tuple(about), (), tuple(sources), wanted)


def _command(name: str, survey: Survey, offers: Offers, applications: Sequence[Needs]) -> Iterator[Trace]:
    fact = next((command for command in survey.commands if command.name == name), None)
    if fact is None or not (fact.path or fact.offered):
        return
    places = {place.path: place for place in survey.places}
    about = [f"{fact.path}, of {fact.package or 'no package'}" if fact.path else "not there"]
    runtimes = []
    for runtime in survey.runtimes if fact.path else ():
        account = account_of(survey, Target(runtime, "traced"))
        place = places.get(fact.path or "")
        if account and place:
            may = allowed(place, account) & SEARCH and not barred(place, places, account)
            runtimes.append(InRuntime(runtime.label, f"{account.name} {'may' if may else 'may not'} run it"))
    installed = [
        Source(package.name, package.version, "installed")
        for package in survey.installed or ()
        if package.name == fact.package
    ]
    packages = [offer for package in fact.offered for offer in survey.offers or () if offer.name == package]
    wanted = tuple(
        Wanted(needs.name, need.level, need.text, needs.note(need.key) or "")
        for needs in applications
        for need in needs.of(CommandNeed)
        if name in (alternative for alternative, _ in need.alternatives)
    )
    yield Trace("command", name, tuple(about), tuple(runtimes), (*installed, *_offered(packages, offers)), wanted)
