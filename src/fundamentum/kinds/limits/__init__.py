"""How much gets through to an application: ``[uploads]``, ``[requests]`` and ``[forms]``, each a chain of limits.

A file of 200 MB gets through only if the web server, PHP's limit on a request, its limit on a file and the disk all
let it.
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import Annotated, Any, Final

import msgspec
from msgspec.structs import replace

from fundamentum.catalog import is_unlimited
from fundamentum.catalog.quantity import quantity
from fundamentum.effective.judged_sites import sites_of
from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.limits.limit_chain import links, narrowest, where
from fundamentum.kinds.limits.limit_demands import demands_of
from fundamentum.kinds.limits.need import Limit, LimitNeed
from fundamentum.kinds.settings.promised import value_promised
from fundamentum.kinds.settings.setting_verdict import SettingNeed
from fundamentum.kinds.table_reader import LevelName, Reader, Table, seconds, size
from fundamentum.model.findings import Finding, Link, Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Text
from fundamentum.model.promises import Promise
from fundamentum.model.survey import Survey

Count = Annotated[int, msgspec.Meta(ge=1, le=10_000_000)]
_WORDS: Final = {
    "uploads:largest": "largest upload",
    "uploads:files": "files in one upload",
    "requests:longest": "longest request",
    "forms:fields": "fields in a form",
}


class UploadsTable(Table):
    """What visitors send in, held against every limit on its way."""

    largest: Annotated[Text | None, msgspec.Meta(description='The largest file: "200M".')] = None
    files: Annotated[Count | None, msgspec.Meta(description="Files in one request.")] = None
    level: LevelName = "required"


class RequestsTable(Table):
    """How long the application may work on one request."""

    longest: Annotated[Text | None, msgspec.Meta(description='The longest request: "90s", "5m".')] = None
    level: LevelName = "required"


class FormsTable(Table):
    """How large its forms are."""

    fields: Annotated[Count | None, msgspec.Meta(description="Fields of the largest form.")] = None
    level: LevelName = "required"


class Limits(Kind[LimitNeed]):
    """Limits as a whole: what is set against the least that every link of a chain has to allow."""

    prefixes = ("uploads", "requests", "forms")
    order = 40
    tables = {"uploads": UploadsTable, "requests": RequestsTable, "forms": FormsTable}
    group = "limits"

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[LimitNeed]:
        uploads, requests, forms = tables["uploads"], tables["requests"], tables["forms"]
        if uploads.largest is not None:
            amount = reader.number(size, ["uploads", "largest"], uploads.largest)
            yield LimitNeed("uploads:largest", amount, uploads.largest.strip(), uploads.level)
        if uploads.files is not None:
            yield LimitNeed("uploads:files", uploads.files, str(uploads.files), uploads.level)
        if requests.longest is not None:
            amount = reader.number(seconds, ["requests", "longest"], requests.longest)
            yield LimitNeed("requests:longest", amount, requests.longest.strip(), requests.level)
        if forms.fields is not None:
            yield LimitNeed("forms:fields", forms.fields, str(forms.fields), forms.level)

    def questions(self, need: LimitNeed) -> Iterator[tuple[Question, str]]:
        yield "directories", "/tmp"  # where what is sent in lands, unless set otherwise

    def judge(self, need: LimitNeed, context: Context) -> Finding:
        return _judged(need, context)

    def promised(self, finding: Finding, context: Context) -> Iterator[Promise]:
        for link in finding.chain:
            if link.condition:
                yield from value_promised(finding, link.name, context)

    def words(self, need: NeedId) -> str:
        return _WORDS.get(need, super().words(need))

    def met_in_words(self, finding: Finding) -> str:
        return f"{self.words(finding.need)} {finding.found}"


_CHAINS: Final[Mapping[str, Limit]] = {
    "upload_max_filesize": "uploads:largest",
    "post_max_size": "requests:body",
    "max_file_uploads": "uploads:files",
    "memory_limit": "requests:memory",
    "max_execution_time": "requests:longest",
    "max_input_vars": "forms:fields",
}
"""Directives of which the least that will do is asked of a whole chain."""


def limit_of(need: SettingNeed) -> LimitNeed | None:
    """The chain that a directive has to be wide enough in; None where nothing is asked of it but its value."""
    least = [wanted for operator, wanted in need.condition.comparisons if operator in (">=", ">")]
    if need.name not in _CHAINS or not least or any(is_unlimited(need.name, wanted) for wanted in least):
        return None
    amount = max(quantity(wanted).number for wanted in least)
    return LimitNeed(_CHAINS[need.name], amount, need.condition.text, need.level) if amount > 0 else None


def with_chain(finding: Finding, need: SettingNeed, context: Context) -> Finding:
    """The finding for a directive with everything else in the way of what it lets through: the worse of both counts."""
    limit = limit_of(need)
    if limit is None or context.target.runtime.sapi == "cli":
        return finding
    chain = _judged(limit, context)
    if len(chain.chain) < 2:
        return finding
    demands = (*finding.demands, *chain.demands)
    if chain.verdict == "met":
        return replace(finding, chain=chain.chain, demands=demands)
    remark = "; ".join(dict.fromkeys(filter(None, (finding.remark, chain.remark)))) or None
    actual = chain.found if finding.verdict == "met" else finding.found
    of_own = {"need": need.key, "wanted": need.condition.text, "overridden": finding.overridden, "found": actual}
    return replace(chain, **of_own, remark=remark, demands=demands)


def _judged(need: LimitNeed, context: Context) -> Finding:
    """The finding for one such need, with the whole chain."""
    chain = tuple(links(need, context))
    narrow = [link for link in chain if link.enough is False]
    unknown = [link for link in chain if link.enough is None and link.of != "disk"]
    finding = Finding(need=need.key, level=need.level, verdict="met", wanted=need.text, chain=chain)
    if narrow:
        least = narrowest(chain)
        waiting = all(link.state == "awaiting-restart" for link in narrow)
        finding = replace(
            finding,
            verdict="unmet",
            state="awaiting-restart" if waiting else None,
            origin=least.origin if least else None,
            remedy=narrow[0].remedy if waiting else "; ".join(dict.fromkeys(link.remedy for link in narrow)),
        )
    elif unknown:
        names = ", ".join(f"{link.of} {link.name}" for link in unknown)
        remedy = f"find out what {names} allows: see {unknown[0].origin}"
        finding = replace(finding, verdict="unknown", origin=unknown[0].origin, remedy=remedy)
    least = narrowest(chain)
    actual = f"{least.shown} ({where(least)})" if least else "no limit"
    remark = _remark(need, chain, context.survey, context.target)
    return replace(finding, found=actual, remark=remark, demands=tuple(demands_of(chain, finding, context)))


def _remark(need: LimitNeed, chain: Sequence[Link], survey: Survey, target: Target) -> str | None:
    sites = sites_of(survey, target)
    if need.key in ("uploads:largest", "requests:longest") and not any(site.limits for site in sites):
        if sites:
            return f"what the web server itself allows {sites[0].name} is not known, and not in this chain"
        who = "no web server's configuration leads to this runtime" if target.present else "it is not installed yet"
        return f"{who}: what a web server in front of it allows is not in this chain"
    unseen = [link for link in chain if link.of == "disk" and link.enough is None]
    if unseen:
        return f"how much is free in {' and '.join(link.name for link in unseen)} is not known"
    return None


KIND = Limits()
