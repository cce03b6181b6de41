"""What manifests require of the platform besides PHP's version and extensions by name: versions of extensions,
libraries beneath (``lib-icu``), the build (``php-64bit``, ``php-zts``), and extensions in conflict.

Source: the documentation of the package manager for PHP, "platform packages" and the schema of ``composer.json``.
"""

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Final, Literal

import msgspec

from fundamentum.catalog import canonical
from fundamentum.catalog.libraries import tables
from fundamentum.catalog.symbols import own_extensions
from fundamentum.derive.result import Entry, Place
from fundamentum.model.constraints import EVERYTHING, Interval, as_range, common, intervals
from fundamentum.model.needs_value import Level, NotUnderstood

Aspect = Literal["extension", "library", "feature", "build", "absent"]
_LIBRARIES: Final = {
    "curl": "libcurl",
    "libpq": "libpq",
    "pq": "libpq",
    "gd": "libgd",
    "zip": "libzip",
    "sodium": "libsodium",
}
"""Names that manifests have for libraries, where the catalogue has another."""
_BUILDS: Final = {"php-64bit": ("bits", "64"), "php-zts": ("thread_safe", "true")}
_WHY: Final[Mapping[Aspect, str]] = {
    "extension": "{by} accepts these versions of it",
    "library": "the manifest of {by} states the library beneath",
    "build": "the manifest of {by} states it",
    "absent": "the manifest of {by} says that it is in conflict with it",
}


class Demand(msgspec.Struct, frozen=True):
    """One statement of a manifest about the platform."""

    aspect: Aspect
    name: str
    accepted: tuple[Interval, ...]
    by: str
    """The application, or the library that came with it."""
    where: str
    """The place, for a person."""
    level: Level = "required"
    rule: str = ""
    """Why, in words; empty: a manifest says so."""
    value: str = ""
    """For a build, how it is to be."""
    what: str = ""
    """What stands at the place; empty: its name."""


def demands(requires: Mapping[str, str], conflicts: Mapping[str, str], by: str, where: str) -> Iterator[Demand]:
    """What the two tables of one manifest come to.  ``where`` names the place of the manifest, for a person."""
    for name, text in requires.items():
        kind, _, rest = name.lower().partition("-")
        if name.lower() in _BUILDS:
            what, value = _BUILDS[name.lower()]
            yield Demand("build", what, (EVERYTHING,), by, where, value=value)
        elif kind == "lib" and (known := _library(rest)):
            yield Demand("library", known, _accepted(text), by, where)
        elif kind == "ext" and rest and canonical(rest) not in own_extensions() and _accepted(text) != (EVERYTHING,):
            yield Demand("extension", canonical(rest), _accepted(text), by, where)
    for name, text in conflicts.items():
        kind, _, rest = name.lower().partition("-")
        if kind == "ext" and rest and _accepted(text) == (EVERYTHING,):
            yield Demand("absent", canonical(rest), (EVERYTHING,), by, where)


def with_demands(entries: Iterable[Entry], stated: Iterable[Demand]) -> Iterator[Entry]:
    """The needs, extensions with the versions that all who state any accept, and what else is stated."""
    together: dict[tuple[Aspect, str], list[Demand]] = {}
    for demand in stated:
        together.setdefault((demand.aspect, demand.name), []).append(demand)
    for entry in entries:
        versions = together.pop(("extension", entry.names[0]), None) if entry.kind == "extension" else None
        if versions and len(entry.names) == 1:
            entry = msgspec.structs.replace(entry, value=_versions(versions))
        yield entry
    for (aspect, name), those in sorted(together.items()):
        places = tuple(_place(demand.where, demand.what or name) for demand in those[:3])
        first = next((demand for demand in those if demand.level == "required"), those[0])
        rule = first.rule or _WHY[aspect].format(by=first.by)
        if aspect == "library":
            yield Entry("library", (name,), first.level, _versions(those), rule, places)
        elif aspect == "feature":
            yield Entry("feature", (name,), first.level, "", rule, places)
        elif aspect == "build":
            yield Entry("build", (name,), "required", first.value, rule, places)
        elif aspect == "absent":
            yield Entry("absent", (name,), "required", "", rule, places)


def _library(name: str) -> str:
    known = _LIBRARIES.get(name, name)
    return known if known in tables().libraries else ""


def _accepted(text: str) -> tuple[Interval, ...]:
    try:
        return intervals(text)
    except NotUnderstood:
        return (EVERYTHING,)


def _versions(those: Iterable[Demand]) -> str:
    """What all accept, from the lowest to the highest; where they contradict each other, what the first accepts."""
    accepted: tuple[Interval, ...] = (EVERYTHING,)
    for demand in those:
        accepted = common(accepted, demand.accepted) or accepted
    low, high = accepted[0], accepted[-1]
    interval = Interval(low.low, low.above, high.high, high.closed)
    return "" if interval == EVERYTHING else re.sub(r"(>=\d+)\.0\b(?!\.)", r"\1", str(as_range((interval,))))


def _place(where: str, what: str) -> Place:
    path, _, line = where.partition(" ")[0].rpartition(":")
    return Place(path, int(line), what) if line.isdigit() else Place(where, 0, what)
