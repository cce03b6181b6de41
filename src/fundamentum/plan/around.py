"""The remedies for needs that go beyond PHP's own extensions and settings, as actions."""

import posixpath
import re
from collections.abc import Iterator
from typing import Final

from fundamentum.check import tasks
from fundamentum.check.chain import sites_of
from fundamentum.check.offers import Market
from fundamentum.model.actions import Action, Allow, Arrange, Install, Manage, Restart, Schedule, Widen
from fundamentum.model.findings import Finding, Judgement, Link
from fundamentum.model.surrounding_needs import TaskNeed
from fundamentum.model.survey import Survey
from fundamentum.plan.actions import for_extension
from fundamentum.plan.setting_places import pool_addition
from fundamentum.webservers import webserver

CRON: Final = ("cron", "cronie")
_WINDOWS_WORD: Final = re.compile(r"[\w .:/()-]+", re.A)
_CRON_NAME: Final = re.compile(r"[^A-Za-z0-9_-]")


def for_around(finding: Finding, one: Judgement, world: Survey, market: Market, label: str) -> Iterator[Action]:
    """What would mend this finding; nothing where nothing here can."""
    kind = finding.need.kind
    target = one.target
    if finding.state == "awaiting-restart" and finding.chain:
        return  # the restart is planned already
    # What is there and too old is upgraded with everything else, not by a plan for one application.
    present = {package.name for package in world.installed or ()}
    if kind in ("database", "command") and finding.package and finding.package not in present:
        yield Install(finding.package)
    if kind == "database" and finding.subject:
        yield from for_extension(finding.subject, world, target, market)
    if finding.arrangement and target.present:
        yield Arrange(finding.arrangement)
    for link in finding.chain:
        if link.enough is False:
            yield from _for_link(link, one, world, market, label)
    need = next((need for need in one.needs.tasks if need.key == finding.need), None)
    if need and target.present:
        yield from _for_task(need, finding, one, world, market)


def _for_link(link: Link, one: Judgement, world: Survey, market: Market, label: str) -> Iterator[Action]:
    runtime = one.target.runtime
    if link.state == "awaiting-restart" and runtime.service:
        yield Restart(runtime.service)
    elif link.of == "FPM" and runtime.pool:
        present = runtime.manager.get(link.name)
        origin = present.origin.set_in if present else ""
        file = runtime.pool_file if one.target.beside else None
        file = file or pool_addition(runtime, f"{label}-{runtime.pool}", origin, runtime.pool_file or "")
        if file:
            yield Manage(link.name, link.value, link.to, file, runtime.label, runtime.pool, link.least)
    served = sites_of(world, one.target) if link.site else []
    for site in (part for whole in served for part in whole.way):
        for limit in site.limits:
            same = link.site == f"{site.name} {limit.part or site.part or ''}".strip()
            if (limit.name, limit.origin, limit.value) != (link.name, link.origin, link.value) or not same:
                continue
            spot = limit.own or site.spot
            of = webserver(site.server)
            if of.by_command:
                if not _WINDOWS_WORD.fullmatch(f"{site.name} {site.handler}"):
                    continue  # nothing that a Windows shell would look into
                yield Widen(
                    site.server, site.name, limit.name, limit.value, link.to, None, False, link.least, site.handler
                )
            elif any(limit.name in table and table[limit.name].by_hand for table in (of.sizes, of.times)):
                continue  # of one address alone: that line is to be changed by hand
            elif of.has_additions and spot is None and (folder := market.platform.web_additions.get(site.server)):
                yield Allow(
                    site.server, site.name, limit.name, limit.value, link.to, f"{folder}/zz-{label}.conf", link.least
                )
            elif spot and spot.text:
                yield Widen(
                    site.server, site.name, limit.name, limit.value, link.to, spot, limit.own is None, link.least
                )


def _for_task(need: TaskNeed, finding: Finding, one: Judgement, world: Survey, market: Market) -> Iterator[Action]:
    line = tasks.cron_line(need, world, one.target)
    if finding.origin or line is None or not market.platform.carried_out:
        return  # a line that comes too seldom is somebody's own
    installed = {package.name for package in world.installed or ()}
    offered = next((name for name in CRON if market.package(name)), None)
    if not installed.intersection(CRON) and offered:
        yield Install(offered)
    yield Schedule(need.command, line, posixpath.join("/etc/cron.d", _CRON_NAME.sub("-", one.needs.name)))
