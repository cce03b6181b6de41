"""Make a plan: check, mend what can be mended, apply that to the survey, and check again until nothing changes."""

import posixpath
from collections.abc import Sequence
from typing import Final

from fundamentum.check.judge import judge
from fundamentum.check.model import Finding, Judgement, Target
from fundamentum.check.offers import Market
from fundamentum.check.target import choose
from fundamentum.needs.model import LEVELS, Condition, Needs
from fundamentum.plan.actions import for_finding, for_setting, ini_text
from fundamentum.plan.apply import apply
from fundamentum.plan.model import Action, DropIn, Enable, Install, Plan, Reason, Restart, Set, Unresolved, key_of
from fundamentum.server.model import Runtime, Survey

ROUNDS: Final = 6
"""One change can bring another need to light (an extension its directives, say), but not often in a row."""


def plan(
    applications: Sequence[Needs], survey: Survey, selector: str | None = None, *, recommended: bool = True
) -> Plan:
    """The changes that make these applications run on this server."""
    market = Market(survey)
    targets = [choose(survey, needs, selector, market) for needs in applications]
    before = tuple(judge(needs, survey, target, market) for needs, target in zip(applications, targets, strict=True))
    levels = LEVELS if recommended else LEVELS[:1]
    label = "-".join(dict.fromkeys(needs.name for needs in applications))[:60]
    actions: dict[str, Action] = {}
    reasons: dict[str, dict[Reason, None]] = {}
    along: list[str] = []
    missing: list[str] = []
    world, judgements = survey, before
    for _ in range(ROUNDS):
        fresh = _mend(judgements, world, market, label, levels, reasons)
        fresh = {key: action for key, action in fresh.items() if actions.get(key) != action}
        if not fresh:
            break
        actions |= fresh
        along, missing = _along(actions, survey, market)
        world = apply(fresh.values(), world, market, along)
        judgements = tuple(judge(j.needs, world, _same_target(j.target, world), market) for j in judgements)
    unresolved = tuple(_unresolved(judgements)) + tuple(
        Unresolved("php", f"cannot be installed: {what}", applications[0].name, "required") for what in missing
    )
    installs = tuple(a for a in actions.values() if isinstance(a, Install))
    enables = tuple(a for a in actions.values() if isinstance(a, Enable))
    settings = tuple(a for a in actions.values() if isinstance(a, Set))
    return Plan(
        server=survey.server,
        family=survey.system.family,
        before=before,
        after=judgements,
        installs=tuple(sorted(installs, key=lambda a: a.package)),
        along=tuple(along),
        enables=enables,
        settings=settings,
        files=tuple(_files(settings, survey, label)),
        restarts=tuple(_restarts(list(actions.values()), targets)),
        reasons={key: tuple(found) for key, found in reasons.items()},
        sources={
            name: offer.source for name in [*along, *(a.package for a in installs)] if (offer := market.package(name))
        },
        unresolved=unresolved,
    )


def _mend(
    judgements: Sequence[Judgement],
    world: Survey,
    market: Market,
    label: str,
    levels: Sequence[str],
    reasons: dict[str, dict[Reason, None]],
) -> dict[str, Action]:
    """Actions for every finding that is not met; settings of one runtime are decided together."""
    found: dict[str, Action] = {}
    limits: dict[tuple[str, str], tuple[Target, list[Condition], list[Reason]]] = {}
    for one in judgements:
        conditions = {(need.key, need.level): need for need in one.needs.settings}
        for finding in one.findings:
            if finding.level not in levels:
                continue
            reason = Reason(one.needs.name, finding.need, finding.level, finding.note)
            if need := conditions.get((finding.need, finding.level)):
                _, together, why = limits.setdefault((one.target.runtime.label, need.name), (one.target, [], []))
                together.append(need.condition)
                if finding.verdict == "unmet":
                    why.append(reason)
            if finding.verdict == "unmet":
                for action in for_finding(finding, world, one.target, market):
                    found[key_of(action)] = action
                    reasons.setdefault(key_of(action), {})[reason] = None
    places: dict[str, list[str]] = {}
    for (runtime, name), (target, _, why) in limits.items():
        if why and (setting := target.runtime.settings.get(name)):
            places.setdefault(runtime, []).append(setting.origin.rpartition(":")[0])
    for (runtime, name), (target, together, why) in limits.items():
        change = for_setting(name, together, label, target, places.get(runtime, ())) if why else None
        if change and target.present:
            found[key_of(change)] = change
            reasons.setdefault(key_of(change), {}).update(dict.fromkeys(why))
    return found


def _along(actions: dict[str, Action], survey: Survey, market: Market) -> tuple[list[str], list[str]]:
    packages = [action.package for action in actions.values() if isinstance(action, Install)]
    if not packages or survey.system.family != "debian":
        return [], []  # what comes along elsewhere, the package manager itself will say
    from fundamentum.plan.dependencies import Resolver  # noqa: PLC0415 — its library is slow to import

    return Resolver(survey, market).along(packages)


def _same_target(target: Target, world: Survey) -> Target:
    found = next((runtime for runtime in world.runtimes if runtime.label == target.runtime.label), None)
    return Target(found, target.reason) if found else target


def _unresolved(judgements: Sequence[Judgement]) -> list[Unresolved]:
    return [
        Unresolved(finding.need, _why(finding), one.needs.name, finding.level)
        for one in judgements
        for finding in one.findings
        if finding.verdict in ("unmet", "unknown")
    ]


def _why(finding: Finding) -> str:
    return "; ".join(part for part in (finding.found, finding.remedy) if part)


def _restarts(actions: Sequence[Action], targets: Sequence[Target]) -> list[Restart]:
    """Every service whose runtime is touched, once."""
    services = (
        target.runtime.service for target in targets if any(_touches(action, target.runtime) for action in actions)
    )
    return [Restart(service) for service in dict.fromkeys(services) if service]


def _touches(action: Action, runtime: Runtime) -> bool:
    match action:
        case Restart(service):
            return service == runtime.service
        case Enable(_, _, branch, sapi):
            return (branch, sapi) == (runtime.branch, runtime.sapi)
        case Set(_, _, _, file, label):
            return label == runtime.label or posixpath.dirname(file) == runtime.scan_dir
        case Install():
            return True


def _files(settings: Sequence[Set], survey: Survey, label: str) -> list[DropIn]:
    """The drop-in files.  What an earlier plan put into the same file, and still counts, is kept."""
    found: dict[str, dict[str, str]] = {}
    pools: dict[str, str | None] = {}
    for change in settings:
        lines = found.setdefault(change.file, {})
        pools[change.file] = change.pool
        for runtime in survey.runtimes:
            for name, setting in runtime.settings.items():
                if setting.origin.rpartition(":")[0] == change.file and setting.value is not None:
                    lines.setdefault(name, setting.value)
    for change in settings:
        found[change.file][change.name] = change.after
    files = []
    for path, lines in sorted(found.items()):
        pool = pools[path]
        body = [f"; Limits for {label}, as planned by fundamentum."]
        body += [f"[{pool}]"] if pool else []
        for name, value in sorted(lines.items()):
            text = ini_text(value) or ""
            body.append(f"php_admin_value[{name}] = {text}" if pool else f"{name} = {text}")
        files.append(DropIn(path, "\n".join(body) + "\n"))
    return files
