"""The effective value of a directive in the judged runtime against what is wanted."""

from msgspec.structs import replace

from fundamentum.catalog import directive_gone, facts, follows, is_unlimited, owner_of_directive
from fundamentum.catalog.quantity import quantity, spelled
from fundamentum.effective.followed_values import value_that_counts
from fundamentum.kinds.base import Context
from fundamentum.kinds.extensions.activation import for_extension
from fundamentum.kinds.extensions.state import standing
from fundamentum.model.conditions import Condition
from fundamentum.model.findings import Finding, Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value
from fundamentum.model.php import Setting


class SettingNeed(Value, frozen=True):
    """One directive and what it must be."""

    name: str
    condition: Condition
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId(f"setting:{self.name}")


def judged(need: SettingNeed, context: Context) -> Finding:
    """The finding for one directive."""
    target, runtime = context.target, context.target.runtime
    setting = runtime.settings.get(need.name)
    if setting is None:
        return _absent(need, context)
    finding = Finding(
        need=need.key,
        level=need.level,
        verdict="met",
        wanted=need.condition.text,
        found=shown(need.name, setting, need.condition),
        origin=setting.origin,
        overridden=setting.overridden,
    )
    if setting.value is None:
        if setting.origin.file in runtime.unread:
            why = f"{setting.origin} could not be read: survey again as a user who may read it"
        elif target.base and target.base.settings[need.name].value is not None:
            why = f"what {setting.origin} sets for this site's requests cannot be known from here: look there"
        else:
            why = f"it depends on an environment variable: see {setting.origin}"
        return replace(finding, verdict="unknown", remedy=why)
    if runtime.answer and (running := runtime.answer.settings.get(need.name)) is not None:
        return _heard(need, finding, setting, running, target)
    value = value_that_counts(need.name, setting.value, target)
    oddity = quantity(setting.value).oddity if need.condition.kind == "compare" and _numeric(need.condition) else None
    if not need.condition.holds(need.name, value):
        remarks = [oddity] if oddity else []
        if setting.origin.built_in and (line := runtime.commented.get(need.name)):
            remarks.append(f"its line is commented out: {runtime.ini_file}:{line}")
        remedy = _remedy(need, value, setting, target)
        return replace(finding, verdict="unmet", remedy=remedy, remark="; ".join(remarks) or None)
    if setting.origin.set_in in runtime.stale:
        return replace(
            finding,
            verdict="unmet",
            state="awaiting-restart",
            remedy=f"restart {runtime.service or 'the program that runs this PHP'}",
            remark=f"{runtime.service} started before {setting.origin.file} changed",
        )
    return replace(finding, remark=oddity)


def _heard(need: SettingNeed, finding: Finding, setting: Setting, running: str, target: Target) -> Finding:
    """The running pool's own value wins; where its files say otherwise, a restart is due."""
    runtime = target.runtime
    configured = value_that_counts(need.name, setting.value or "", target)
    now = need.condition.holds(need.name, value_that_counts(need.name, running, target))
    then = need.condition.holds(need.name, configured)
    if now and then:
        return finding
    if then:
        return replace(
            finding,
            verdict="unmet",
            state="awaiting-restart",
            found=f"{running} in the running pool",
            remedy=f"restart {runtime.service or 'the program that runs this PHP'}",
            remark=f"{setting.origin} has {setting.value}, which the running pool has not read",
        )
    if now:
        remark = f"but {setting.origin} has {setting.value}: no longer met after the next restart"
        return replace(finding, found=running, remark=remark)
    return replace(finding, verdict="unmet", remedy=_remedy(need, configured, setting, target))


def _remedy(need: SettingNeed, value: str, setting: Setting, target: Target) -> str:
    runtime = target.runtime
    if need.name in facts(runtime.branch).forced.get(runtime.sapi, {}):
        return f"the {runtime.sapi} runtime always has {value or 'nothing'} here, whatever the files say"
    proposal = need.condition.proposal(need.name, value)
    if not need.condition.holds(need.name, proposal):
        proposal = f"{'a value of your choice' if need.condition.kind == 'set' else need.condition.text}"
    if facts(runtime.branch).refuses(need.name, proposal):
        why = f"set to {proposal}" if proposal else "nothing unsets it: set to nothing"
        return f"{why}, PHP keeps {value}; ask whether the application needs that"
    base = target.base.settings.get(need.name) if target.base else None
    if base and base.origin != setting.origin:  # a layer of the site's own decides
        return f"set {need.name} = {proposal} at {setting.origin}, which decides for this site alone"
    place = setting.origin.set_in or runtime.ini_place
    return f"set {need.name} = {proposal} in {place}"


def _numeric(condition: Condition) -> bool:
    return any(operator in (">=", ">", "<=", "<") for operator, _ in condition.comparisons)


def _sized(condition: Condition) -> bool:
    return any(wanted.strip()[-1:].lower() in ("k", "m", "g") for _, wanted in condition.comparisons)


def shown(name: str, setting: Setting, condition: Condition) -> str:
    """The value in words: as set, and what PHP makes of it where the two differ."""
    value = setting.value
    if value is None:
        return "not known"
    if condition.kind == "switch":
        return f"{value or 'off'}" if value not in ("0", "1") else {"0": "off", "1": "on"}[value]
    if condition.kind in ("has", "lacks"):
        there = condition.holds(name, value) is (condition.kind == "has")
        return f"{'with' if there else 'without'} {condition.word}"
    if value == "":
        return "not set"
    if is_unlimited(name, value):
        return f"{value} (no limit)"
    if other := follows(name, value):
        return f"{value} (as {other})"
    if _numeric(condition):
        number = quantity(value)
        if number.oddity:
            unit = " bytes" if _sized(condition) and number.number < 1024 else ""
            return f"{value} (PHP reads {spelled(number.number)}{unit})"
        if _sized(condition) and value.strip().lstrip("+-").isdigit() and number.number:
            return (
                f"{value} ({spelled(number.number)}{'' if spelled(number.number)[-1] in 'KMG' else ' bytes'})"
                if spelled(number.number) != value
                else f"{value} bytes"
            )
    return value


def _absent(need: SettingNeed, context: Context) -> Finding:
    """The runtime has no such directive: it is gone, belongs to an extension that is not loaded, or is unknown."""
    runtime = context.target.runtime
    branch = runtime.branch
    base = Finding(need=need.key, level=need.level, verdict="unmet", wanted=need.condition.text)
    harmless = need.condition.kind != "zone" and any(need.condition.holds(need.name, value) for value in ("", "0"))
    if gone := directive_gone(need.name, branch):
        remark = f"{need.name} no longer exists since PHP {gone}"
        if harmless:
            return replace(base, verdict="met", found="does not exist", remark=remark)
        return replace(
            base,
            found="does not exist",
            remark=remark,
            remedy=f"nothing to set: {remark}; ask whether the application still needs it",
        )
    owner = owner_of_directive(need.name, branch)
    if owner is None:
        return replace(
            base,
            verdict="unknown",
            found="not known",
            remedy=f"no directive {need.name} of PHP {branch} is known here, and no file sets it: check the spelling",
        )
    where = standing(owner, context)
    if where.state is None:  # a file that could not be read may load it
        return replace(base, verdict="unknown", found=where.found, remedy=where.remedy, subject=owner)
    if harmless:
        return replace(base, verdict="met", found="not in effect", remark=f"the extension {owner} is not loaded")
    default = facts(branch).default(need.name, runtime.sapi) or ""
    enough = need.condition.holds(need.name, default)
    then = "" if enough else f", then set {need.name} = {need.condition.proposal(need.name, default)}"
    return replace(
        base,
        state=where.state,
        found=f"the extension {owner} is not loaded",
        remedy=f"{where.remedy}{then}",
        subject=owner,
        package=where.package,
        demands=tuple(for_extension(where, context)),
    )
