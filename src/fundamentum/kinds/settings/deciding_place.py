"""Where a directive's value is written so that it wins for the judged site: in the same kind of place that decides now.

Weaker places would not count, and stronger ones would take from the application what it may change itself
(``php_admin_value``), or change more sites than have to be.
"""

import posixpath
from collections.abc import Iterator, Sequence
from typing import Final

from fundamentum.catalog import START_ONLY, TAKING, facts, is_unlimited
from fundamentum.catalog.quantity import quantity
from fundamentum.catalog.setting_line import Syntax, ini_text, with_value
from fundamentum.changes.directive import SetDirective
from fundamentum.changes.directive_line import ChangeLine
from fundamentum.effective.followed_values import value_that_counts
from fundamentum.model.conditions import Condition
from fundamentum.model.findings import Target
from fundamentum.model.layers import Assignment
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.safe_text import is_path
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform
from fundamentum.untrusted import name_patterns

_FIRST: Final = ("00-", "000-", "00000000-", f"{'0' * 40}-", "-00-")
_LAST: Final = ("90-", "zz-", "zzzz-", "zzzzzzzz-", f"{'z' * 40}-")
_SENT: Final = ("request", "request-admin")


def value_for(conditions: list[Condition], name: str, value: str) -> str | None:
    """The value nearest to the present one that satisfies all conditions; None if none does."""
    for _ in range(len(conditions) + 1):
        failing = next((condition for condition in conditions if not condition.holds(name, value)), None)
        if failing is None:
            return value
        value = failing.proposal(name, value)
    return value if all(condition.holds(name, value) for condition in conditions) else None


def for_setting(
    name: str, conditions: list[Condition], label: str, target: Target, together: Sequence[str], survey: Survey
) -> SetDirective | ChangeLine | None:
    """The change that makes a directive satisfy all conditions, in a place where it wins; None if there is none.

    ``together`` are the files that set the directives of this change, so that one new file can stand behind them all.
    """
    runtime = target.runtime
    present = runtime.settings.get(name)
    if present is None or present.value is None or name in facts(runtime.branch).forced.get(runtime.sapi, {}):
        return None
    now = value_that_counts(name, present.value, target)
    if present.origin.set_in in runtime.stale and all(condition.holds(name, now) for condition in conditions):
        return None
    value = _writable(name, conditions, now, target)
    if value is None:
        return None
    if present.set_by == "site":
        return line_of_site(name, present, value, runtime, survey)
    if not runtime.editable:
        return None
    pool_file = _pool_file(name, present, value, target, label, survey)
    if pool_file:
        return SetDirective(name, present.value, value, pool_file, runtime.label, runtime.pool, present.admin)
    if present.set_by != "ini":
        return None  # stronger than every ini file, and there is no place beside it that is stronger still
    if runtime.scan_dir:
        file = _addition(runtime.scan_dir, "*.ini", label, (present.origin.set_in, *together))
    else:
        file = runtime.main_ini
    return SetDirective(name, present.value, value, file, runtime.label) if file else None


def _writable(name: str, conditions: list[Condition], now: str, target: Target) -> str | None:
    value = value_for(conditions, name, now)
    known = facts(target.runtime.branch)
    # PHP would keep the value that it has; ``Off`` is nothing to it.
    if value is not None and known.refuses(name, "" if value == "Off" else value):
        met_by_zero = all(condition.holds(name, "0") for condition in conditions)
        value = "0" if met_by_zero and not known.refuses(name, "0") else None
    return value if value is not None and ini_text(value) is not None else None


def _pool_file(name: str, present: Setting, value: str, target: Target, label: str, survey: Survey) -> str | None:
    """The file of the pool's configuration in which the value counts; None: it does not belong there, or cannot.

    It belongs there where the pool decides now, where only a pool is stronger than what decides, and where other
    runtimes read the same ini files and the change would not simply allow them more.
    """
    runtime = target.runtime
    if not runtime.pool or name in START_ONLY | TAKING:
        return None
    if (target.beside or target.own) and runtime.pool_file:
        return runtime.pool_file
    shared = any(other.label != runtime.label and other.scan_dir == runtime.scan_dir for other in survey.runtimes)
    if present.set_by == "ini" and not (shared and not _allows_more(name, present.value or "", value)):
        return None
    before = present.origin.set_in if present.set_by == "pool" else ""
    return pool_addition(runtime, f"{label}-{runtime.pool}", before or runtime.pool_file or "", first=True)


def _allows_more(name: str, before: str, after: str) -> bool:
    """Whether nobody lacks anything when a number becomes this one."""
    if is_unlimited(name, after):
        return True
    if is_unlimited(name, before) or not (before + after).replace(".", "").isalnum():
        return False
    return after[:1].isdigit() and before[:1].isdigit() and quantity(after).number >= quantity(before).number > 0


def line_of_site(name: str, present: Setting, value: str, runtime: Runtime, survey: Survey) -> ChangeLine | None:
    """The very line that decides for the site, with another value; None where it cannot be changed as it stands."""
    for line, kind in _lines(runtime, survey):
        syntax: Syntax = "sent" if kind in _SENT else "ini" if kind in ("user-ini", "section") else "module"
        if (line.name, line.origin) != (name, present.origin):
            continue
        if line.spot is None or with_value(line.spot.text, syntax, name, value) is None:
            return None
        inside = kind in ("htaccess", "user-ini")
        server = next(site.server for site in survey.sites if site.runtime == runtime.label)
        web = platform(survey.system.family).web_service(server)
        service = {"htaccess": None, "user-ini": runtime.service, "section": runtime.service}.get(kind, web)
        return ChangeLine(name, present.value or "", value, line.spot, syntax, runtime.label, service, inside)
    return None


def _lines(runtime: Runtime, survey: Survey) -> Iterator[tuple[Assignment, str]]:
    """The lines of all layers of the sites that the runtime serves, and of its sections, each with its kind."""
    for site in survey.sites:
        for layer in site.layers if site.runtime == runtime.label else ():
            yield from ((assignment, layer.kind) for assignment in layer.values)
    for section in runtime.sections:
        yield from ((assignment, "section") for assignment in section.values)


def pool_addition(runtime: Runtime, label: str, *origins: str, first: bool = False) -> str | None:
    """A file of a pool's directory that is included, and read after those that speak now, or before them."""
    return _addition(runtime.pool_dir, runtime.pool_pattern, label, origins, first) if runtime.pool_dir else None


def _addition(folder: str, pattern: str, label: str, origins: Sequence[str], first: bool = False) -> str | None:
    """A file of a directory that is read after those that speak now, or before them, in the order of names.

    None where the pattern, by which files there are included, takes none of such a name.
    """
    names = [posixpath.basename(origin) for origin in origins if posixpath.dirname(origin) == folder]
    for prefix in _FIRST if first else _LAST:
        name = pattern.replace("*", f"{prefix}{label}", 1) if "*" in pattern else ""
        fits = name_patterns.fits(name, pattern) and is_path(f"/{name}")
        if fits and all(name <= other_name if first else name >= other_name for other_name in names):
            return posixpath.join(folder, name)
    return None
