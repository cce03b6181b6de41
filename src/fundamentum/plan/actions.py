"""The remedy for one finding, as actions."""

import posixpath
import re
from collections.abc import Iterable, Sequence
from typing import Final

from fundamentum.catalog import facts
from fundamentum.check import extensions
from fundamentum.check.offers import Market
from fundamentum.check.settings import effective
from fundamentum.model.conditions import Condition
from fundamentum.model.findings import Finding, Target
from fundamentum.model.php import Module
from fundamentum.model.plan import Action, AddLine, Enable, Install, Restart, Set, SwitchOn
from fundamentum.model.survey import Survey

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
        return found
    if finding.subject and (finding.need.kind in ("extension", "loader") or finding.state):
        return list(for_extension(finding.subject, survey, target, market))
    return []


def for_extension(name: str, survey: Survey, target: Target, market: Market) -> Iterable[Action]:
    """What would make an extension active in the runtime."""
    where = extensions.standing(name, survey, target, market)
    module = _module(name, survey, target)
    if where.state == "installable" and where.package:
        yield Install(where.package)
    elif where.state == "switched-off" and module and module.switch and market.platform.switches_by_name:
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


def value_for(conditions: list[Condition], name: str, value: str) -> str | None:
    """The value nearest to the present one that satisfies all conditions; None if none does."""
    for _ in range(len(conditions) + 1):
        failing = next((one for one in conditions if not one.holds(name, value)), None)
        if failing is None:
            return value
        value = failing.proposal(name, value)
    return value if all(one.holds(name, value) for one in conditions) else None


def for_setting(
    name: str, conditions: list[Condition], label: str, target: Target, together: Sequence[str]
) -> Set | None:
    """The change that makes a directive satisfy all conditions, in the place where it counts.

    That is a file of the scan directory, unless the pool's own configuration sets the directive: it is applied
    after every ini file, so only the pool's configuration can win there.  ``together`` are the files that set the
    directives of this change, so that one new file can stand behind them all.
    """
    runtime = target.runtime
    present = runtime.settings.get(name)
    if present is None or present.value is None or not runtime.editable:
        return None
    if target.base and (base := target.base.settings.get(name)) and base.origin != present.origin:
        return None  # the site's own configuration decides, and nothing written for the runtime would win
    own_file = runtime.pool_file if target.beside else None
    if name in facts(runtime.branch).forced.get(runtime.sapi, {}):
        return None
    if present.origin.set_in in runtime.stale and all(
        one.holds(name, effective(name, present.value, target)) for one in conditions
    ):
        return None
    value = value_for(conditions, name, effective(name, present.value, target))
    known = facts(runtime.branch).directives.get(name)
    if known is not None and known.refuses_empty and value in ("", "Off"):
        value = (
            "0" if all(one.holds(name, "0") for one in conditions) else None
        )  # set to nothing, it would keep its value
    if value is None or ini_text(value) is None:
        return None
    set_in = present.origin.set_in
    if own_file and runtime.pool:
        file, pool = own_file, runtime.pool
    elif runtime.pool_dir and runtime.pool and set_in.endswith(".conf"):
        file, pool = _before(runtime.pool_dir, f"{label}-{runtime.pool}", set_in), runtime.pool
    elif runtime.scan_dir:
        file, pool = after(runtime.scan_dir, label, ".ini", set_in, *together), None
    else:
        file, pool = runtime.ini_file or f"{runtime.home.rstrip('/')}/php.ini", None
    return Set(name, present.value, value, file, runtime.label, pool)


def after(folder: str, label: str, ending: str, *origins: str) -> str:
    """A file of a directory of additions that is read after those that set the directive now."""
    names = [posixpath.basename(origin) for origin in origins if posixpath.dirname(origin) == folder]
    for prefix in ("90-", "zz-", "zzzz-", "zzzzzzzz-"):
        name = f"{prefix}{label}{ending}"
        if all(name.encode() >= other.encode() for other in names):
            return posixpath.join(folder, name)
    return posixpath.join(folder, f"{'z' * 40}-{label}{ending}")


def _before(folder: str, label: str, *origins: str) -> str:
    """A pool file that is read before those that set the directive now: in pools the first line wins."""
    names = [posixpath.basename(origin) for origin in origins if posixpath.dirname(origin) == folder]
    for prefix in ("00-", "000-", "00000000-"):
        name = f"{prefix}{label}.conf"
        if all(name.encode() <= other.encode() for other in names):
            return posixpath.join(folder, name)
    return posixpath.join(folder, f"{'0' * 40}-{label}.conf")


def ini_text(value: str) -> str | None:
    """The value as an ini file writes it, quoted where PHP would read it otherwise; None if it cannot be written."""
    if value == "" or all(c.isascii() and (c.isalnum() or c in "._/-") for c in value):
        return value
    if not value.isprintable():
        return None
    if "'" not in value:
        return f"'{value}'"
    return f'"{value}"' if not any(c in value for c in '"\\$') else None
