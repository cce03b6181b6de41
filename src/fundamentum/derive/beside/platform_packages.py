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
from fundamentum.model.needs_value import NotUnderstood

Aspect = Literal["extension", "library", "build", "absent"]
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
_WHY: Final = {
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


def demands(requires: Mapping[str, str], conflicts: Mapping[str, str], by: str, where: str) -> Iterator[Demand]:
    """What the two tables of one manifest come to.  ``where`` names the place of the manifest, for a person."""
    for name, text in requires.items():
        kind, _, rest = name.lower().partition("-")
        if name.lower() in _BUILDS:
            yield Demand("build", name.lower(), (EVERYTHING,), by, where)
        elif kind == "lib" and (known := _library(rest)):
            yield Demand("library", known, _accepted(text), by, where)
        elif kind == "ext" and rest and canonical(rest) not in own_extensions() and _accepted(text) != (EVERYTHING,):
            yield Demand("extension", canonical(rest), _accepted(text), by, where)
    for name, text in conflicts.items():
        kind, _, rest = name.lower().partition("-")
        if kind == "ext" and rest and _accepted(text) == (EVERYTHING,):
            yield Demand("absent", canonical(rest), (EVERYTHING,), by, where)


def with_demands(found: Iterable[Entry], stated: Iterable[Demand]) -> Iterator[Entry]:
    """The needs, extensions with the versions that all who state any accept, and what else is stated."""
    together: dict[tuple[Aspect, str], list[Demand]] = {}
    for demand in stated:
        together.setdefault((demand.aspect, demand.name), []).append(demand)
    for entry in found:
        versions = together.pop(("extension", entry.names[0]), None) if entry.kind == "extension" else None
        if versions and len(entry.names) == 1:
            entry = msgspec.structs.replace(entry, value=_versions(versions))
        yield entry
    for (aspect, name), those in sorted(together.items()):
        places = tuple(_place(demand.where, name) for demand in those[:3])
        rule = _WHY[aspect].format(by=those[0].by)
        if aspect == "library":
            yield Entry("library", (name,), "required", _versions(those), rule, places)
        elif aspect == "build":
            what, value = _BUILDS[name]
            yield Entry("build", (what,), "required", value, rule, places)
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


def _place(where: str, name: str) -> Place:
    path, _, line = where.partition(" ")[0].rpartition(":")
    return Place(path, int(line), name) if line.isdigit() else Place(where, 0, name)
