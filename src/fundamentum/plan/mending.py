"""Actions for the findings that are not met, those of one directive or one file decided together."""

from collections.abc import Iterator, Sequence

import msgspec

from fundamentum.check.offers import Market
from fundamentum.model.actions import Action, Allow, Manage, Reason, Widen, key_of
from fundamentum.model.conditions import Condition, condition
from fundamentum.model.findings import Finding, Judgement, Target
from fundamentum.model.origin import Origin
from fundamentum.model.survey import Survey
from fundamentum.plan.actions import for_finding
from fundamentum.plan.around import for_around
from fundamentum.plan.setting_places import for_setting


class _Wanted(msgspec.Struct):
    """What all needs together want of one directive in one runtime."""

    target: Target
    conditions: list[Condition]
    why: list[Reason]


def mend(
    judgements: Sequence[Judgement],
    world: Survey,
    market: Market,
    label: str,
    levels: Sequence[str],
    reasons: dict[str, dict[Reason, None]],
) -> dict[str, Action]:
    """Actions for every finding that is not met; settings of one runtime are decided together."""
    found: dict[str, Action] = {}
    limits: dict[tuple[str, str, Origin | None], _Wanted] = {}
    for one in [*judgements, *(one.command_line for one in judgements if one.command_line)]:
        if refused(one):
            continue
        for finding in one.findings:
            if finding.level not in levels:
                continue
            reason = Reason(one.needs.name, finding.need, finding.level, finding.note)
            for name, wanted, lacking in _directives(one, finding, world, judgements):
                key = (one.target.runtime.label, name, _own_place(one.target, name))
                limit = limits.setdefault(key, _Wanted(one.target, [], []))
                limit.conditions.append(wanted)
                limit.why += [reason] if lacking else []
            if finding.verdict != "unmet" and not finding.switch:
                continue
            actions = [*for_finding(finding, world, one.target, market)]
            actions += for_around(finding, one, world, market, label)
            for action in actions:
                found[key_of(action)] = _wider(action, found.get(key_of(action)))
                reasons.setdefault(key_of(action), {})[reason] = None
    places: dict[str, list[str]] = {}
    for (runtime, name, _), limit in limits.items():
        if limit.why and (setting := limit.target.runtime.settings.get(name)):
            places.setdefault(runtime, []).append(setting.origin.set_in)
    for (runtime, name, _), limit in limits.items():
        beside = places.get(runtime, ())
        change = for_setting(name, limit.conditions, label, limit.target, beside, world) if limit.why else None
        if change and limit.target.present:
            found[key_of(change)] = change
            reasons.setdefault(key_of(change), {}).update(dict.fromkeys(limit.why))
    return found


def _own_place(target: Target, name: str) -> Origin | None:
    """The line that decides for the judged site alone; None where the runtime's own configuration does, for all."""
    setting = target.runtime.settings.get(name)
    return setting.origin if setting and setting.set_by == "site" else None


def refused(one: Judgement) -> bool:
    """Whether the application does not accept this PHP: nothing is done for it there, unless to see what would be."""
    accepted = any(f.need == "php" and f.state not in ("other-branch", "unobtainable") for f in one.findings)
    return not accepted and not one.target.wanted


def _wider(action: Action, other: Action | None) -> Action:
    """Of two changes of one limit the one that serves both applications."""
    kinds = Widen | Manage | Allow
    if isinstance(action, kinds) and isinstance(other, kinds) and other.least > action.least:
        return other
    return action


def _directives(
    one: Judgement, finding: Finding, world: Survey, beside: Sequence[Judgement]
) -> Iterator[tuple[str, Condition, bool]]:
    """The directives of PHP that a need is about: name, what it has to be, and whether it is not."""
    unmet = finding.verdict == "unmet"
    for need in one.needs.settings:
        if (need.key, need.level) == (finding.need, finding.level):
            yield need.name, need.condition, unmet
    for link in finding.chain if finding.verdict != "accepted" else ():
        if link.condition:
            waiting = link.state == "awaiting-restart"
            yield link.name, link.condition, unmet and link.enough is False and not waiting
    if finding.need == "host:time_zone" and unmet:
        named = (need.condition for other in beside for need in other.needs.settings if need.name == "date.timezone")
        zone = condition("date.timezone", f"= {world.machine.zone or 'UTC'}")
        yield "date.timezone", next(named, zone), True  # where an application names one, that one will do
