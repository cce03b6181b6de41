"""Everything that a request passes on its way to an application, each with what it allows, and the narrowest of it.

A file of 200 MB gets through only if the web server, PHP's limit on a request, its limit on a file and the disk all
let it.  Each is a link; a link says what it allows, what it has to allow, and where that is set.
"""

import math
from collections.abc import Iterator, Sequence
from typing import Final

from fundamentum.catalog import is_unlimited
from fundamentum.catalog.quantity import quantity, size_in_words, span, spelled
from fundamentum.effective.confinement import fenced
from fundamentum.effective.followed_values import value_that_counts
from fundamentum.effective.judged_sites import sites_of
from fundamentum.effective.sandboxed import read_only, service_of_php
from fundamentum.kinds.base import Context
from fundamentum.kinds.limits.need import Limit, LimitNeed
from fundamentum.kinds.settings.setting_verdict import SettingNeed, judged
from fundamentum.model.conditions import Condition, condition
from fundamentum.model.findings import Finding, Link, Target
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.survey import Site, Survey
from fundamentum.webservers import body_folders
from fundamentum.webservers.limits import allowed

DIRECTIVES: Final[dict[Limit, frozenset[str]]] = {
    "uploads:largest": frozenset({"file_uploads", "post_max_size", "upload_max_filesize", "memory_limit"}),
    "uploads:files": frozenset({"max_file_uploads"}),
    "requests:body": frozenset({"post_max_size", "memory_limit"}),
    "requests:memory": frozenset({"memory_limit"}),
    "requests:longest": frozenset({"max_execution_time", "max_input_time"}),
    "forms:fields": frozenset({"max_input_vars", "max_multipart_body_parts"}),
}
"""The directives of PHP that are links of each chain."""
MEGA: Final = 2**20
BESIDE: Final = 64 * 1024
"""Bytes of a request beside the file itself: the other fields of the form and what separates them."""


def narrowest(chain: Sequence[Link]) -> Link | None:
    """The link that allows least in comparison with what it has to; of equal ones the first on the way."""
    known = [link for link in chain if link.amount is not None and link.amount != math.inf]
    return min(known, key=lambda link: (link.amount or 0) / max(link.least, 1), default=None)


def where(link: Link) -> str:
    return f"{link.of} {link.name}" + (f" for {link.site}" if link.site else "")


def links(need: LimitNeed, context: Context) -> Iterator[Link]:
    """Every link, in the order in which a request meets them."""
    survey, target = context.survey, context.target
    sites = sites_of(survey, target)

    def of_php(name: str, text: str, to: str | None = None, least: int = 0) -> Iterator[Link]:
        yield from _setting(name, text, to or text, least, need, context)

    match need.limit:
        case "uploads:largest":
            body = need.amount + BESIDE
            room = with_room(need.amount)
            yield from allowed(sites, "sizes", body, room, survey)
            yield from of_php("file_uploads", "on", least=1)
            yield from _fence(need.amount, target)
            yield from _sandboxed(need.amount, survey, target, next(iter(sites), None))
            yield from of_php("post_max_size", f">= {body}", f">= {spelled(room)}", body)
            yield from of_php("upload_max_filesize", f">= {spelled(need.amount)}", least=need.amount)
            # The manual on post_max_size: "generally speaking, memory_limit should be larger than post_max_size".
            yield from of_php("memory_limit", f">= {body}", f">= {spelled(room)}", body)
            yield from _space(sites, need.amount, survey, target)
        case "uploads:files":
            yield from of_php("max_file_uploads", f">= {need.amount}", least=need.amount)
        case "requests:body":
            yield from allowed(sites, "sizes", need.amount, need.amount, survey)
            yield from of_php("post_max_size", f">= {need.amount}", f">= {spelled(need.amount)}", need.amount)
            yield from of_php("memory_limit", f">= {need.amount}", f">= {spelled(need.amount)}", need.amount)
            yield from _space(sites, need.amount, survey, target)
        case "requests:memory":
            yield from of_php("memory_limit", f">= {spelled(need.amount)}", least=need.amount)
            yield from _machine(need.amount, survey)
        case "requests:longest":
            yield from allowed(sites, "times", need.amount, need.amount, survey)
            yield from _manager(need.amount, target)
            yield from of_php("max_execution_time", f">= {need.amount}", least=need.amount)
            yield from of_php("max_input_time", f">= {need.amount}", least=need.amount)
        case "forms:fields":
            yield from of_php("max_input_vars", f">= {need.amount}", least=need.amount)
            parts = target.runtime.settings.get("max_multipart_body_parts")
            if parts and parts.value not in (None, "-1"):
                yield from of_php("max_multipart_body_parts", f">= {need.amount}", least=need.amount)


def _fence(least: int, target: Target) -> Iterator[Link]:
    """Where uploads would land, if PHP may not open it.

    Source: ``php_open_temporary_fd_ex``: a directory that is named for them is not held against ``open_basedir``, but
    what is taken where none is named is.
    """
    named = target.runtime.settings.get("upload_tmp_dir")
    for folder in target.runtime.upload_folders if not (named and named.value) else ():
        if fence := fenced(folder, target):
            remedy = f"set upload_tmp_dir to a directory within open_basedir, or add {folder} to it at {fence.origin}"
            shown = "not known" if fence.value is None else fence.value
            known = None if fence.value is None else 0.0
            enough = None if fence.value is None else False
            yield Link("PHP", "open_basedir", shown, shown, known, least, fence.origin, enough, remedy)


def _sandboxed(least: int, survey: Survey, target: Target, site: Site | None) -> Iterator[Link]:
    """Where uploads would land, if systemd lets PHP's service write there no more than elsewhere."""
    service = service_of_php(target.runtime, survey, site)
    for folder in target.runtime.upload_folders:
        if fence := read_only(folder, service, survey):
            lines = f"PrivateTmp=yes, or ReadWritePaths={folder}"
            remedy = f"let {service} write to {folder}: {lines}, by systemctl edit {service}"
            yield Link("systemd", service, "", f"{folder} is read-only", 0.0, least, fence.origin, False, remedy)


def with_room(size: int) -> int:
    """The size of a whole request that holds one file of this size, rounded up to megabytes."""
    return math.ceil((size + max(MEGA, size // 25)) / MEGA) * MEGA


def _setting(name: str, text: str, to: str, least: int, need: LimitNeed, context: Context) -> Iterator[Link]:
    """One of PHP's own directives, judged as any other setting is."""
    target = context.target
    setting = target.runtime.settings.get(name)
    if setting is None:
        return
    finding = judged(SettingNeed(name, condition(name, text), need.level), context)
    wanted = condition(name, to)
    value = value_that_counts(name, setting.value, target) if setting.value is not None else None
    enough = {"met": True, "unmet": False}.get(finding.verdict)
    yield Link(
        of="PHP",
        name=name,
        value=setting.value or "",
        shown=setting.value if setting.value is not None else "not known",
        amount=_amount(name, value, wanted),
        least=least,
        origin=setting.origin,
        enough=enough,
        remedy=_remedy(finding, name, wanted, need, context) if enough is False else "",
        state=finding.state,
        condition=wanted if enough is False else condition(name, text),
    )


def _remedy(finding: Finding, name: str, wanted: Condition, need: LimitNeed, context: Context) -> str:
    """What to do about a directive that is too narrow: with room for the whole request, not just for what is asked."""
    if finding.state != "awaiting-restart":
        finding = judged(SettingNeed(name, wanted, need.level), context)
    return finding.remedy or ""


def _amount(name: str, value: str | None, wanted: Condition) -> float | None:
    if value is None:
        return None
    if wanted.kind == "switch":
        return math.inf if wanted.holds(name, value) else 0
    return math.inf if is_unlimited(name, value) else quantity(value).number


def _manager(least: int, target: Target) -> Iterator[Link]:
    """FPM's own limit, which ends a request whatever PHP's settings say.  Source: php.net, FPM configuration."""
    runtime = target.runtime
    name = "request_terminate_timeout"
    if runtime.sapi != "fpm":
        return
    setting = runtime.manager.get(name)
    value = setting.value if setting and setting.value is not None else "0"
    amount = span(value)
    amount = math.inf if amount == 0 else amount
    enough = None if amount is None else amount >= least
    origin = setting.origin if setting else BUILT_IN
    place = origin.set_in or runtime.pool_file or "the pool's file"
    stale = enough is True and origin.set_in in runtime.stale
    remedy = f"restart {runtime.service}" if stale else f"set {name} = {least}s in {place}"
    yield Link(
        of="FPM",
        name=name,
        value=value,
        shown="0 (no limit)" if amount == math.inf else value,
        amount=amount,
        least=least,
        origin=origin,
        enough=False if stale else enough,
        remedy=remedy if stale or enough is False else "",
        state="awaiting-restart" if stale else None,
        to=f"{least}s",
    )


def _machine(least: int, survey: Survey) -> Iterator[Link]:
    """The memory of the machine, where it is known: no limit of PHP's makes it more."""
    have = survey.machine.memory
    if have is None:
        return
    enough = have >= least
    remedy = "give the machine more memory"
    yield Link(
        "machine", "memory", str(have), size_in_words(have), have, least, Origin("/proc/meminfo"), enough, remedy
    )


def _space(sites: Sequence[Site], least: int, survey: Survey, target: Target) -> Iterator[Link]:
    """Room where what is sent in lands: with the web server first, then with PHP."""
    places = {place.path: place for place in survey.places}
    for folder in dict.fromkeys([*body_folders(sites), *target.runtime.upload_folders]):
        place = places.get(folder)
        free = place.free if place else None
        yield Link(
            of="disk",
            name=folder,
            value="" if free is None else str(free),
            shown="not known" if free is None else f"{size_in_words(free)} free",
            amount=free,
            least=least,
            origin=Origin(folder),
            enough=None if free is None else free >= least,
            remedy=f"make room in {folder}: {size_in_words(least)} at least",
        )
