"""Libraries beneath PHP and its extensions, with versions: ``[libraries]``."""

import re
from collections.abc import Iterator, Mapping
from typing import Any

from msgspec.structs import replace

from fundamentum.catalog.libraries import Library
from fundamentum.catalog.libraries import tables as catalogued
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.extensions.activation import for_extension
from fundamentum.kinds.extensions.state import standing
from fundamentum.kinds.table_reader import Alternatives, Listing, Reader, as_text
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.versions import VersionRange
from fundamentum.platforms.offers import provided, upstream


def known() -> Mapping[str, Library]:
    """The libraries that can be asked for."""
    return catalogued().libraries


class LibrariesTable(Listing):
    """Libraries that PHP is linked with: "icu >= 60", "libcurl >= 7.61"; | separates alternatives."""


class LibraryNeed(Value, frozen=True):
    """One library, or any one of several."""

    alternatives: Alternatives
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId("library:" + "|".join(name for name, _ in self.alternatives))

    @property
    def text(self) -> str:
        """As it is written."""
        return as_text(self.alternatives)


class Libraries(Kind[LibraryNeed]):
    """Libraries, by what PHP says of them, or by the package that the extension on top of them is linked with."""

    prefixes = ("library",)
    order = 12
    tables = {"libraries": LibrariesTable}
    group = "libraries"
    on_command_line = True

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[LibraryNeed]:
        for level, alternatives in reader.alternatives("libraries", tables["libraries"], known):
            yield LibraryNeed(alternatives, level)

    def questions(self, need: LibraryNeed) -> Iterator[tuple[Question, str]]:
        yield from (("modules", known()[name].extension) for name, _ in need.alternatives)

    def judge(self, need: LibraryNeed, context: Context) -> Finding:
        """The finding for the alternative with the least to do."""
        order = ("met", "unmet", "unknown")
        findings = [_judged(name, versions, need, context) for name, versions in need.alternatives]
        return min(findings, key=lambda finding: (order.index(finding.verdict), not finding.demands))

    def written(self, need: NeedId) -> str:
        return f'[libraries]\nrequired = ["{" | ".join(need.names)}"]'

    def met_in_words(self, finding: Finding) -> str:
        return finding.found or ""


def _judged(name: str, versions: VersionRange, need: LibraryNeed, context: Context) -> Finding:
    library = known()[name]
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted=need.text)
    there = standing(library.extension, context)
    version, where = version_of(name, library, context)
    shown = f"{name} {version or 'of unknown version'}" + (f" ({where})" if where else "")
    if there.state != "active":
        actual = f"{shown}; the extension {library.extension}: {there.found}"
        demands = tuple(for_extension(there, context)) if there.state else ()
        if version and versions.accepts(version) and there.state:
            base = replace(base, verdict="unmet", state=there.state, package=there.package, demands=demands)
        return replace(base, found=actual, remedy=there.remedy, subject=library.extension)
    base = replace(base, found=shown)
    if version is None:
        branch = context.target.runtime.branch
        expression = library.says if "(" not in library.says else f"phpinfo() below {library.extension}"
        how = f"php{branch} -r 'echo {expression};'" if expression == library.says else expression
        return replace(base, remedy=f"ask the pool itself (--ask), or see what PHP says: {how}")
    if versions.accepts(version):
        return replace(base, verdict="met")
    remedy = f"PHP has to be built with a newer one: a newer release of the system has it, or a build that has {name} "
    return replace(base, verdict="unmet", state="unobtainable", remedy=f"{remedy}{versions}")


def version_of(name: str, library: Library, context: Context) -> tuple[str | None, str]:
    """The version of a library in the judged runtime, and where that is known from."""
    told = context.target.runtime.told.get(f"library:{name}")
    if told and (version := re.search(r"\d+(?:\.\d+)*", told)):
        return version[0], "says PHP"
    package = _package(library, context)
    installed = next(
        (installed.version for installed in context.survey.installed or () if installed.name == package), None
    )
    offer = context.offers.package(package) if package and installed is None else None
    version_text = installed or (offer.version if offer else None)
    return (upstream(version_text), f"package {package}") if version_text else (None, "")


def _package(library: Library, context: Context) -> str | None:
    """The package of the library: the one that the extension is linked with, or that its package depends on."""
    shape = re.compile(library.packages)
    names = dict.fromkeys(package.name for package in context.survey.installed or () if shape.fullmatch(package.name))
    runtime = context.target.runtime
    branch = context.survey.branch_of(runtime)
    module = next((module for module in (branch.modules if branch else ()) if module.name == library.extension), None)
    linked = module.linked if module else branch.linked if branch else ()
    for soname in linked:
        number = soname.rpartition(".so.")[2]
        if soname.startswith((f"{library.soname}.", f"{library.soname}-")):
            named = [name for name in names if re.sub(r"t64$", "", name).endswith(number)]
            if len(names) == 1 or len(named) == 1:
                return [*named, *names][0]
    if runtime.home and not linked:
        return None  # what a PHP in a place of its own is linked with, its own files tell alone
    offer = context.offers.supplier(library.extension, runtime.branch, runtime.home)
    offer = offer or context.offers.runtime_package(runtime.branch, runtime.sapi)
    depends = [name for name in provided(offer.depends.replace("|", ",")) if shape.fullmatch(name)] if offer else []
    return next(iter(depends), None) or (next(iter(names)) if len(names) == 1 else None)


KIND = Libraries()
