"""What makes every link of a chain of limits wide enough."""

import re
from collections.abc import Iterator, Sequence
from typing import Any, Final, Self

from msgspec.structs import replace

from fundamentum.changes.pool_option import SetPoolOption
from fundamentum.changes.service import Restart
from fundamentum.changes.web_limit import LimitForAll, WidenLimit
from fundamentum.effective.judged_sites import sites_of
from fundamentum.kinds.base import Context
from fundamentum.kinds.settings.deciding_place import pool_addition
from fundamentum.kinds.settings.demand import DirectiveDemand
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Demand, Finding, Link, Target
from fundamentum.model.needs_value import Value
from fundamentum.model.surrounding_facts import Limit
from fundamentum.model.survey import Site, Survey
from fundamentum.webservers import webserver

_WINDOWS_WORD: Final = lazy_regex(r"[\w .:/()-]+", re.A)
"""What a Windows shell looks into no further."""


class PoolOptionDemand(Value, frozen=True):
    """An option of a pool that has to allow more."""

    target: Target
    link: Link
    lacking: bool = True

    @property
    def key(self) -> tuple[str, str]:
        return self.target.runtime.label, self.link.name

    def joined(self, other: Self) -> Self:
        return other if other.link.least > self.link.least else self

    def settled(self, label: str, survey: Survey, demands: Sequence[Any]) -> SetPoolOption | None:
        """The option in the pool's own file where that is new, else in a file that is read behind it."""
        runtime, link = self.target.runtime, self.link
        present = runtime.manager.get(link.name)
        origin = present.origin.set_in if present else ""
        file = runtime.pool_file if self.target.beside or self.target.own else None
        file = file or pool_addition(runtime, f"{label}-{runtime.pool}", origin, runtime.pool_file or "")
        if not file or not runtime.pool:
            return None
        return SetPoolOption(link.name, link.value, link.to, file, runtime.label, runtime.pool, link.least)


class LimitForAllDemand(Value, frozen=True):
    """A limit of a web server for all sites, in a file that is named for the applications."""

    change: LimitForAll
    folder: str
    lacking: bool = True

    @property
    def key(self) -> tuple[str, str, str]:
        return self.change.server, self.folder, self.change.name

    def joined(self, other: Self) -> Self:
        return other if other.change.least > self.change.least else self

    def settled(self, label: str, survey: Survey, demands: Sequence[Any]) -> LimitForAll:
        """The limit, in that file."""
        return replace(self.change, file=f"{self.folder}/zz-{label}.conf")


def demands_of(chain: Sequence[Link], finding: Finding, context: Context) -> Iterator[Demand]:
    """What each link has to be, those that are wide enough too."""
    service = context.target.runtime.service
    if finding.state == "awaiting-restart" and service:
        yield Restart(service)
    for link in chain:
        waiting = link.state == "awaiting-restart"
        if link.condition:
            lacking = finding.verdict == "unmet" and link.enough is False and not waiting
            yield DirectiveDemand(context.target, link.name, (link.condition,), lacking)
        if link.enough is False and finding.state != "awaiting-restart":
            yield from _of_link(link, context)


def _of_link(link: Link, context: Context) -> Iterator[Demand]:
    runtime = context.target.runtime
    if link.state == "awaiting-restart" and runtime.service:
        yield Restart(runtime.service)
    elif link.of == "FPM" and runtime.pool:
        yield PoolOptionDemand(context.target, link)
    for site in (part for visited in sites_of(context.survey, context.target) for part in visited.way):
        for limit in site.limits if link.site else ():
            same = link.site == f"{site.name} {limit.part or site.part or ''}".strip()
            if same and (limit.name, limit.origin, limit.value) == (link.name, link.origin, link.value):
                yield from _of_site(link, site, limit, context)


def _of_site(link: Link, site: Site, limit: Limit, context: Context) -> Iterator[Demand]:
    """The limit of a web server, where it is set, behind the beginning of its site, or in a file for all sites."""
    spot, of = limit.own or site.spot, webserver(site.server)
    of_site = (limit.name, limit.value, link.to, site.server, site.name)
    folder = context.offers.platform.web_additions.get(site.server)
    if of.by_command:
        if _WINDOWS_WORD.fullmatch(f"{site.name} {site.handler}"):
            yield WidenLimit(*of_site, None, False, link.least, site.handler)
    elif any(limit.name in table and table[limit.name].by_hand for table in (of.sizes, of.times)):
        return  # of one address alone: that line is to be changed by hand
    elif of.has_additions and spot is None and folder:
        yield LimitForAllDemand(LimitForAll(*of_site, "", link.least), folder)
    elif spot and spot.text:
        yield WidenLimit(*of_site, spot, limit.own is None, link.least)
