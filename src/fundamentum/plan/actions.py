"""The remedy for one finding, as actions."""

import posixpath
import re
from collections.abc import Iterable
from typing import Final

from fundamentum.check import extensions
from fundamentum.check.chain import sites_of
from fundamentum.check.offers import Market
from fundamentum.model.actions import Action, AddLine, AddLines, Arrange, Enable, Install, Manage, Restart, SwitchOn
from fundamentum.model.findings import Finding, Target
from fundamentum.model.php import Module
from fundamentum.model.surroundings import Barrier
from fundamentum.model.survey import Survey
from fundamentum.plan.setting_places import line_of_site, pool_addition
from fundamentum.platforms import platform

PLAIN_NAME: Final = re.compile(r"[^A-Za-z0-9_-]")
PLAIN_WORD: Final = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.-]*")


def for_finding(finding: Finding, survey: Survey, target: Target, market: Market) -> list[Action]:
    """What would mend this finding; nothing where nothing here can."""
    if finding.state == "awaiting-restart" and target.runtime.service:
        return [Restart(target.runtime.service)]
    if finding.need == "php":
        found: list[Action] = [Install(finding.package)] if finding.package else []
        if one := finding.switch:
            found += [Install(one.package)] if one.package else []
            found.append(SwitchOn(one.server, one.modules, one.without, one.snippets))
        return [*found, *_for_way_in(finding, survey, target)]
    if finding.subject and (finding.need.kind in ("extension", "loader") or finding.state):
        return list(for_extension(finding.subject, survey, target, market))
    return []


def _for_way_in(finding: Finding, survey: Survey, target: Target) -> Iterable[Action]:
    """What lets requests pass on their way to PHP."""
    runtime, engine = target.runtime, target.runtime.settings.get("engine")
    off = finding.state == "switched-off" and finding.switch is None and engine and engine.set_by == "site"
    if off and engine and (change := line_of_site("engine", engine, "1", runtime, survey)):
        yield change
    if (unblocked := finding.unblocked) is None:
        return
    if one := unblocked.enabled:
        yield SwitchOn(one.server, sites=one.sites)
    if unblocked.start:
        yield Restart(unblocked.start, starts=True)
    if unblocked.barrier:
        yield from _for_barrier(unblocked.barrier, survey, target)
    if unblocked.reread:
        yield Restart(unblocked.reread, gently=unblocked.gently)
    if unblocked.arrangement:
        yield Arrange(unblocked.arrangement)
    file = pool_addition(runtime, f"socket-{runtime.pool}", runtime.pool_file or "")
    if unblocked.socket_owner and runtime.pool and file:
        owner = runtime.listen_owner or ""
        yield Manage("listen.owner", owner, unblocked.socket_owner, file, runtime.label, runtime.pool, 0)


def _for_barrier(barrier: Barrier, survey: Survey, target: Target) -> Iterable[Action]:
    """Lines that answer what stops requests for a site."""
    for site in (part for one in sites_of(survey, target) for part in one.way):
        if barrier in site.barriers:
            folder = platform(survey.system.family).web_additions.get(site.server)
            if (barrier.general or site.spot is None) and folder:
                file = f"{folder}/zz-{PLAIN_NAME.sub('-', site.name)}.conf"
                yield AddLines(site.server, site.name, barrier.lines, None, file, barrier)
            elif site.spot and site.spot.text and not barrier.general:
                yield AddLines(site.server, site.name, barrier.lines, site.spot, site.spot.file, barrier)
            return


def for_extension(name: str, survey: Survey, target: Target, market: Market) -> Iterable[Action]:
    """What would make an extension active in the runtime."""
    where = extensions.standing(name, survey, target, market)
    module = _module(name, survey, target)
    if where.state == "installable" and where.package:
        yield Install(where.package)
    elif where.state == "switched-off" and module and _by_name(module, target, market):
        yield _enable(module, target)
    elif where.state == "switched-off" and module and (file := _line_file(module, target)):
        stem = posixpath.basename(module.path).removesuffix(".so").removesuffix(".dll").removeprefix("php_")
        line = f"{'zend_extension' if module.zend else 'extension'}={stem}"
        yield AddLine(module.name, line, file, target.runtime.label)
    elif where.state == "misfit":
        yield from _for_misfit(where, survey, target, market)
    elif where.state == "awaiting-restart" and target.runtime.service:
        yield Restart(target.runtime.service)


def _for_misfit(where: extensions.Standing, survey: Survey, target: Target, market: Market) -> Iterable[Action]:
    kind = where.fault.kind if where.fault else "unfit"
    if where.fault and kind == "too-early":
        for one in where.fault.requires:
            yield from for_extension(one, survey, target, market)
    elif where.package and kind in ("absent", "unfit"):
        installed = any(package.name == where.package for package in survey.installed or ())
        yield Install(where.package, again=installed)


def _module(name: str, survey: Survey, target: Target) -> Module | None:
    branch = survey.branch_of(target.runtime)
    return next((m for m in (branch.modules if branch else ()) if m.name == name and m.misfit is None), None)


def _by_name(module: Module, target: Target, market: Market) -> bool:
    """Whether it is switched on by its name, in a directory that the runtime reads."""
    return bool(module.switch) and market.platform.switches_by_name and target.runtime.packaged


def _line_file(module: Module, target: Target) -> str | None:
    """Where a line that loads an extension goes: a file of its own, or the php.ini, made if it is not there."""
    runtime = target.runtime
    stem = posixpath.basename(module.path).rpartition(".")[0].removeprefix("php_")
    if not PLAIN_WORD.fullmatch(stem) or not runtime.editable:
        return None
    if runtime.scan_dir:
        return f"{runtime.scan_dir}/{'10' if module.zend else '30'}-{stem}.ini"
    return runtime.ini_file or (f"{runtime.home.rstrip('/')}/php.ini" if runtime.home else None)


def _enable(module: Module, target: Target) -> Enable:
    switch = posixpath.basename(module.switch or "").removesuffix(".ini")
    return Enable(module.name, switch, target.runtime.branch, target.runtime.sapi)
