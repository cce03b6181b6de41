"""Pools of their own, for applications on one branch whose limits do not go together."""

from collections.abc import Iterator, Mapping, Sequence
from types import MappingProxyType
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog import is_unlimited
from fundamentum.catalog.quantity import quantity
from fundamentum.catalog.setting_line import ini_text
from fundamentum.changes.pool import AddPool
from fundamentum.changes.site_pool import MoveSite, moving
from fundamentum.effective.file_access import account_named
from fundamentum.kinds.settings.deciding_place import value_for
from fundamentum.kinds.settings.setting_verdict import SettingNeed
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import Target
from fundamentum.model.needs import Needs
from fundamentum.model.needs_value import Level
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform
from fundamentum.untrusted.secrets import WITHHELD

_WRITABLE: Final = lazy_regex(r"/[A-Za-z0-9_./-]+")
"""Directories whose names no configuration language takes for anything else."""
MUCH_MORE: Final = 4
"""An application that needs this many times the memory of another gets it for itself alone."""


def split(
    applications: Sequence[Needs], targets: Sequence[Target], survey: Survey, levels: Sequence[Level]
) -> tuple[list[Target], list[AddPool | MoveSite], list[str]]:
    """The targets, with those moved to a pool of their own that cannot stay together; and why."""
    out: dict[int, Target] = {}
    pools: dict[str, AddPool] = {}
    words: list[str] = []
    moves: list[MoveSite] = []
    members: dict[str, list[Needs]] = {}
    # The one that wants most comes last, so that it is the one to be set apart.
    order = sorted(range(len(applications)), key=lambda at: _memory(applications[at], levels))
    for at in order:
        needs, target = applications[at], targets[at]
        places = [target, *(_in_pool(target, pool) for pool in pools.values() if pool.like == target.runtime.label)]
        conflict = None
        for place in places:
            neighbours = members.get(place.runtime.label, [])
            conflict = next(filter(None, (at_odds(needs, other, target.runtime, levels) for other in neighbours)), None)
            if conflict is None:
                break
        else:
            place = target
            if target.runtime.sapi == "fpm" and target.runtime.pool_dir and conflict:
                pool = own_pool(needs, target.runtime, survey, pools)
                moved = _moving(target, pool, survey)
                pools[pool.runtime] = replace(pool, handed=True) if moved else pool
                moves += moved
                place = _in_pool(target, pool, taken=bool(moved))
                words.append(conflict)
        members.setdefault(place.runtime.label, []).append(needs)
        out[at] = place
    return [out[at] for at in sorted(out)], [*pools.values(), *moves], words


def _memory(needs: Needs, levels: Sequence[Level]) -> int:
    return max(
        (_least(need) for need in needs.of(SettingNeed) if need.name == "memory_limit" and need.level in levels),
        default=0,
    )


def at_odds(needs: Needs, two: Needs, runtime: Runtime, levels: Sequence[Level]) -> str | None:
    """Why two applications should not share a pool, in words; None if they can."""
    theirs = {need.name: need for need in two.of(SettingNeed) if need.level in levels}
    for need in needs.of(SettingNeed):
        other = theirs.get(need.name)
        if other is None or need.level not in levels:
            continue
        setting = runtime.settings.get(need.name)
        present = (setting.value if setting else None) or ""
        if value_for([need.condition, other.condition], need.name, present) is None:
            wants = f"{needs.name} wants {need.name} {need.condition.text}, {two.name} {other.condition.text}"
            return f"{wants}, which no value satisfies"
        mine, its = _least(need), _least(other)
        if need.name == "memory_limit" and mine and its and max(mine, its) >= MUCH_MORE * min(mine, its):
            return f"{needs.name} wants {need.name} {need.condition.text}, {two.name} only {other.condition.text}"
    return None


def _least(need: SettingNeed) -> int:
    """The number a setting has to reach, in bytes; 0 if there is none."""
    return max(
        (
            quantity(wanted).number
            for operator, wanted in need.condition.comparisons
            if operator in (">=", ">", "=") and not is_unlimited(need.name, wanted)
        ),
        default=0,
    )


def own_pool(
    needs: Needs, runtime: Runtime, survey: Survey, pools: Mapping[str, AddPool] = MappingProxyType({})
) -> AddPool:
    """A pool for one application, beside those that there are and those that are planned."""
    of = platform(survey.system.family)
    taken = {listed.pool for listed in survey.runtimes if listed.branch == runtime.branch} | {
        pool.name for pool in pools.values()
    }
    name = next(n for n in (needs.name, *(f"{needs.name}-{at}" for at in range(2, 1000))) if n not in taken)
    folder = (runtime.listen or "").rpartition("/")[0] if (runtime.listen or "").startswith("/") else ""
    folder = folder if _WRITABLE.fullmatch(folder) else of.socket_dir
    user = runtime.user or of.pool_user
    account = account_named(survey, user, runtime.group)
    group = runtime.group or (account.group if account and account.group != user else "") or ""
    return AddPool(
        name,
        runtime.label,
        replace(runtime, pool=name).label,
        user,
        f"{folder}/php{runtime.branch}-fpm-{name}.sock",
        f"{runtime.pool_dir}/{name}.conf",
        group if group != user else "",
        runtime.listen_owner or "",
        runtime.listen_group or "",
        runtime.listen_mode,
        runtime.chroot if _WRITABLE.fullmatch(runtime.chroot) else "",
        tuple(_copied(runtime)),
        tuple((name, setting.value) for name, setting in runtime.manager.items() if setting.value),
        runtime.pool_also,
    )


def _copied(runtime: Runtime) -> Iterator[tuple[str, str, bool]]:
    """What a pool sets of PHP's, as far as it can be written again: a secret stays where it is."""
    for name, setting in sorted(runtime.settings.items()):
        value = setting.value
        if setting.set_by == "pool" and value is not None and WITHHELD not in value and ini_text(value) is not None:
            yield name, value, setting.admin


def _moving(target: Target, pool: AddPool, survey: Survey) -> list[MoveSite]:
    """What hands the application's own site to its new pool; nothing where that is a person's to do."""
    if target.site is None or not target.runtime.listen:
        return []
    move_sites = moving(survey, target.site, target.runtime.label, target.runtime.listen, pool.listen)
    return [replace(change, runtime=pool.runtime) for change in move_sites]


def _in_pool(target: Target, pool: AddPool, *, taken: bool = False) -> Target:
    """The target in that pool; ``taken``: its site is handed to it by the plan itself."""
    reason = f"in a pool of its own beside {target.runtime.label}"
    runtime = pool.beside(target.runtime)
    if taken:
        return Target(runtime, reason, target.present, target.site, own=True)
    return Target(runtime, reason, target.present, target.site, beside=target.runtime.label)
