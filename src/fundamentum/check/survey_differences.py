"""Two surveys side by side: what differs that matters for PHP, or for the needs of some applications only."""

from collections.abc import Iterable, Iterator, Mapping, Sequence

import msgspec

from fundamentum.check.judge import check
from fundamentum.errors import ChoiceNeeded
from fundamentum.model.findings import Finding
from fundamentum.model.needs import Needs
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Site, Survey

ABSENT = "not there"
QUIET = frozenset({"extension_dir"})
"""Directives that differ with the branch and say nothing else."""


class Difference(msgspec.Struct, frozen=True):
    """One thing that is not the same on both sides."""

    where: str
    """A runtime's label, ``packages``, ``sites``, ``system``, or an application's name."""
    what: str
    """``php``, ``extension:NAME``, ``setting:NAME``, ``package:NAME``, ``site:NAME``, or a need."""
    first: str
    second: str
    origins: tuple[str, str] = ("", "")
    """Where each value comes from, if that is known."""


def compare(first: Survey, second: Survey) -> tuple[Difference, ...]:
    """Everything that concerns PHP, grouped: the system, packages, each runtime, sites."""
    return (*_system(first, second), *_packages(first, second), *_runtimes(first, second), *_sites(first, second))


def compare_for(applications: Sequence[Needs], first: Survey, second: Survey) -> tuple[Difference, ...]:
    """Only what makes a difference to the needs of these applications."""
    return tuple(difference for needs in applications for difference in _for(needs, first, second))


def _for(needs: Needs, first: Survey, second: Survey) -> Iterator[Difference]:
    sides: list[Mapping[str, Finding]] = []
    for survey in (first, second):
        try:
            sides.append({finding.need: finding for finding in check(needs, survey).findings})
        except ChoiceNeeded as error:
            raise ChoiceNeeded(f"{survey.server}: {error}") from error
    for need, side in sides[0].items():
        other = sides[1][need]
        if (side.verdict, side.state, side.found) != (other.verdict, other.state, other.found):
            origins = (str(side.origin or ""), str(other.origin or "")) if need.startswith("setting:") else ("", "")
            yield Difference(needs.name, need, _words(side), _words(other), origins)


def _words(finding: Finding) -> str:
    about = finding.state or finding.found or ""
    if finding.state and finding.found and finding.need.kind == "setting":
        about = f"{finding.state}, {finding.found}"
    return f"{finding.verdict}: {about}" if about else finding.verdict


def _system(first: Survey, second: Survey) -> Iterator[Difference]:
    for name in ("name", "architecture"):
        value, other = getattr(first.system, name), getattr(second.system, name)
        if value != other:
            yield Difference("system", name, value or "unknown", other or "unknown")


def _packages(first: Survey, second: Survey) -> Iterator[Difference]:
    if first.installed is None or second.installed is None:
        return
    sides = [{package.name: package.version for package in survey.installed or ()} for survey in (first, second)]
    for name in sorted(set(sides[0]) | set(sides[1])):
        value, other = sides[0].get(name, ABSENT), sides[1].get(name, ABSENT)
        if value != other and _speaks_of_php(name):
            yield Difference("packages", f"package:{name}", value, other)


def _speaks_of_php(name: str) -> bool:
    return "php" in name and not name.endswith(("-dbgsym", "-dev", "-doc"))


def _runtimes(first: Survey, second: Survey) -> Iterator[Difference]:
    for runtime, two in _pairs(first.runtimes, second.runtimes):
        if runtime is None or two is None:
            there = runtime or two
            label = there.label if there else ""
            yield Difference(label, "runtime", "there" if runtime else ABSENT, "there" if two else ABSENT)
            continue
        label = runtime.label if runtime.label == two.label else f"{runtime.label} and {two.label}"
        yield from _within(label, runtime, two)


def _pairs(first: Sequence[Runtime], second: Sequence[Runtime]) -> Iterator[tuple[Runtime | None, Runtime | None]]:
    """Runtimes of the same label; of the others, those run the same way under another branch."""
    rest = list(second)
    left: list[Runtime] = []
    for runtime in first:
        match = next((two for two in rest if two.label == runtime.label), None)
        if match is None:
            left.append(runtime)
        else:
            rest.remove(match)
            yield runtime, match
    for runtime in left:
        match = next(
            (two for two in rest if (two.sapi, two.pool, two.home) == (runtime.sapi, runtime.pool, runtime.home)), None
        )
        if match is not None:
            rest.remove(match)
        yield runtime, match
    for two in rest:
        yield None, two


def _within(label: str, runtime: Runtime, two: Runtime) -> Iterator[Difference]:
    if runtime.version != two.version:
        yield Difference(label, "php", runtime.version or runtime.branch, two.version or two.branch)
    sides = [_extensions(runtime), _extensions(two)]
    for name in sorted(set(sides[0]) | set(sides[1])):
        first, second = (side.get(name, ABSENT) for side in sides)
        if first != second:
            yield Difference(label, f"extension:{name}", first, second)
    for name in sorted(set(runtime.settings) | set(two.settings)):
        a, b = runtime.settings.get(name), two.settings.get(name)
        if name in QUIET or (a and b and a.value == b.value):
            continue
        # A directive that only one of two branches knows, at its built-in default, follows the version.
        plain = all(side is None or side.origin.built_in for side in (a, b))
        if plain and (a is None or b is None or runtime.branch != two.branch):
            continue
        values = tuple("not known" if s and s.value is None else s.value or "not set" if s else ABSENT for s in (a, b))
        origins = (str(a.origin) if a else "", str(b.origin) if b else "")
        yield Difference(label, f"setting:{name}", values[0] or "", values[1] or "", origins)
    for name in sorted(set(runtime.manager) | set(two.manager)):
        limits = [side.manager.get(name) for side in (runtime, two)]
        if len({limit.value if limit else "0" for limit in limits}) > 1:
            shown = [(limit.value or "") if limit else "not set" for limit in limits]
            places = [str(limit.origin) if limit else "built-in" for limit in limits]
            yield Difference(label, f"limit:{name}", shown[0], shown[1], (places[0], places[1]))
    if bool(runtime.stale) != bool(two.stale):
        words = ("waits for a restart", "runs with its configuration")
        yield Difference(label, "running", words[not runtime.stale], words[not two.stale])


def _extensions(runtime: Runtime) -> dict[str, str]:
    return {extension.name: "fails to load" if extension.fault else "loaded" for extension in runtime.extensions}


def _sites(first: Survey, second: Survey) -> Iterator[Difference]:
    sides = [{f"{site.name} {site.part or ''}".strip(): site for site in survey.sites} for survey in (first, second)]
    for name in sorted(set(sides[0]) | set(sides[1])):
        pair = [side.get(name) for side in sides]
        value, other = ((site.runtime or "not known") if site else ABSENT for site in pair)
        if value != other:
            origins = tuple(str(site.origin) if site else "" for site in pair)
            yield Difference("sites", f"site:{name}", value, other, (origins[0], origins[1]))
        if pair[0] and pair[1]:
            yield from _site(name, pair[0], pair[1])


def _site(name: str, site: Site, other: Site) -> Iterator[Difference]:
    """What the web servers allow the same site, and whether they do so over HTTPS."""
    sides = [{(limit.name, limit.part or ""): limit for limit in site.limits} for site in (site, other)]
    for key in sorted(set(sides[0]) & set(sides[1])):
        a, b = sides[0][key], sides[1][key]
        if a.value != b.value:
            what = f"limit:{key[0]} {key[1]}".strip()
            yield Difference(
                f"site {name}", what, a.value or "built-in", b.value or "built-in", (str(a.origin), str(b.origin))
            )
    if site.secure != other.secure:
        yield Difference(f"site {name}", "https", "on" if site.secure else "off", "on" if other.secure else "off")


def grouped(differences: Iterable[Difference]) -> Mapping[str, Sequence[Difference]]:
    """By where they are, in order."""
    by_what: dict[str, list[Difference]] = {}
    for difference in differences:
        by_what.setdefault(difference.where, []).append(difference)
    return by_what
