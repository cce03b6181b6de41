"""What extensions were built with: ``[features.required]`` and ``[features.recommended]``."""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Annotated, Any

import msgspec
from msgspec.structs import replace

from fundamentum.catalog import canonical
from fundamentum.catalog.libraries import Feature, tables
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.extensions.activation import for_extension
from fundamentum.kinds.extensions.state import standing
from fundamentum.kinds.table_reader import Reader, Table, did_you_mean
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import LEVELS
from fundamentum.model.needs_value import Level, Text, Value
from fundamentum.platforms.offers import provided

_Wanted = Annotated[dict[str, list[Text]], msgspec.Meta(description='Extension to what it must be able to: ["webp"].')]


class FeaturesTable(Table):
    """What extensions must have been built with: gd = ["webp", "freetype"]."""

    required: _Wanted = {}
    recommended: _Wanted = {}


class FeatureNeed(Value, frozen=True):
    """One thing that an extension has to be able to."""

    extension: str
    feature: str
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId(f"feature:{self.extension}:{self.feature}")


class Features(Kind[FeatureNeed]):
    """Features, by what PHP says of them, what the extension's file shows, or what its package brings along."""

    prefixes = ("feature",)
    order = 14
    tables = {"features": FeaturesTable}
    on_command_line = True

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[FeatureNeed]:
        for level in LEVELS:
            wanted: Mapping[str, Sequence[str]] = getattr(tables["features"], level)
            for extension, features in wanted.items():
                known = _known().get(canonical(extension))
                if known is None:
                    hint = did_you_mean(extension, _known()) or f"; known: {', '.join(_known())}"
                    what = f"nothing is known of what '{extension}' may be built with{hint}"
                    reader.refuse(["features", level, extension], what)
                    continue
                for feature in features:
                    if feature.lower() not in known:
                        hint = did_you_mean(feature, known) or f"; known: {', '.join(known)}"
                        what = f"'{feature}' is no feature of {extension} that is known{hint}"
                        reader.refuse(["features", level, extension], what, feature)
                        continue
                    yield FeatureNeed(canonical(extension), feature.lower(), level)

    def questions(self, need: FeatureNeed) -> Iterator[tuple[Question, str]]:
        yield "modules", need.extension

    def judge(self, need: FeatureNeed, context: Context) -> Finding:
        return _judged(need, context)

    def words(self, need: NeedId) -> str:
        _, extension, feature = need.split(":")
        return f"{extension} with {feature}"

    def written(self, need: NeedId) -> str:
        _, extension, feature = (*need.split(":"), "", "")[:3]
        return f'[features.required]\n{extension} = ["{feature}"]'

    def met_in_words(self, finding: Finding) -> str:
        return self.words(finding.need)


def _known() -> Mapping[str, Mapping[str, Feature]]:
    return tables().features


def _judged(need: FeatureNeed, context: Context) -> Finding:
    there = standing(need.extension, context)
    has, where = _has(need, context)
    base = Finding(need=need.key, level=need.level, verdict="unknown", wanted="built in", found=where)
    if there.state != "active":
        actual = f"the extension {need.extension}: {there.found}"
        if has and there.state:
            demands = tuple(for_extension(there, context))
            base = replace(base, verdict="unmet", state=there.state, package=there.package, demands=demands)
        return replace(base, found=actual, remedy=there.remedy, subject=need.extension)
    if has is None:
        how = "ask the pool itself (--ask), or see what the information page shows below " + need.extension
        return replace(base, found="not known", remedy=how)
    if has:
        return replace(base, verdict="met")
    remedy = f"use a build of {need.extension} that has it: this is decided when it is built, and no setting changes it"
    return replace(base, verdict="unmet", state="unobtainable", remedy=remedy)


def _has(need: FeatureNeed, context: Context) -> tuple[bool | None, str]:
    """Whether it is there, and where that is known from; None: not known."""
    runtime, feature = context.target.runtime, tables().features[need.extension][need.feature]
    told = runtime.told.get(str(need.key))
    if told is not None:
        return told == "1", "built in, says PHP" if told == "1" else "not built in, says PHP"
    branch = context.survey.branch_of(runtime)
    module = next((module for module in (branch.modules if branch else ()) if module.name == need.extension), None)
    if module and module.features is not None and feature.signs:
        has = need.feature in module.features
        return has, f"{'built into' if has else 'not built into'} {module.path}"
    if runtime.home or not feature.packages:
        return None, ""
    return _brought(need.extension, feature, context)


def _brought(extension: str, feature: Feature, context: Context) -> tuple[bool | None, str]:
    """Whether the package of the extension, or of a library that it depends on, depends on what the feature takes."""
    runtime = context.target.runtime
    supplier = context.offers.supplier(extension, runtime.branch, runtime.home)
    if supplier is None:
        return None, ""
    shape = re.compile(feature.packages)
    beneath = [name for name in provided(supplier.depends) if name.startswith("lib")]
    offers = [supplier, *filter(None, map(context.offers.package, beneath))]
    for offer in offers:
        if package := next((name for name in provided(offer.depends) if shape.fullmatch(name)), None):
            return True, f"{supplier.name} comes with {package}"
    return None, ""


KIND = Features()
