"""Make a plan: choose the PHP, mend what can be mended, apply that to the survey, and check until nothing changes."""

from collections.abc import Iterable, Sequence
from datetime import date
from typing import TYPE_CHECKING, Final

import msgspec

from fundamentum.check.judge import judge
from fundamentum.check.offers import Market
from fundamentum.check.target import choose
from fundamentum.entries import entry
from fundamentum.model.actions import (
    Action,
    AddLine,
    AddLines,
    AddPool,
    Allow,
    Arrange,
    ChangeLine,
    Enable,
    Install,
    Manage,
    Reason,
    Schedule,
    Set,
    SwitchOn,
    Widen,
)
from fundamentum.model.findings import Finding, Judgement, Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import LEVELS, Needs
from fundamentum.model.packages import Offer
from fundamentum.model.plan import Aside, Decision, DropIn, Plan, Unresolved
from fundamentum.model.survey import Survey
from fundamentum.model.value import Level
from fundamentum.plan import choice, pools
from fundamentum.plan.apply import apply
from fundamentum.plan.choice import Candidate, Outcome
from fundamentum.plan.edits import edits
from fundamentum.plan.effects import effects
from fundamentum.plan.files import cron_files, files_of, restarts, web_server_files
from fundamentum.plan.line_edits import line_edits
from fundamentum.plan.mending import mend, refused

if TYPE_CHECKING:
    from fundamentum.plan.dependencies import Resolver

ROUNDS: Final = 20
"""One change can bring another need to light (an extension its directives, say), but not often in a row."""


class Settled(msgspec.Struct):
    """What has to be done for some applications on given runtimes, and how they fare then."""

    actions: dict[str, Action]
    reasons: dict[str, dict[Reason, None]]
    judgements: tuple[Judgement, ...]
    along: tuple[str, ...] = ()
    removes: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    asides: tuple[Aside, ...] = ()
    world: Survey | None = None
    """The server as it is then."""

    def unresolved(self) -> list[Unresolved]:
        """The needs that stay unmet."""
        found = [
            Unresolved(finding.need, _why(finding, one), one.needs.name, finding.level)
            for one in self.judgements
            for finding in one.findings
            if finding.verdict in ("unmet", "unknown")
        ]
        found += [
            Unresolved(finding.need, f"on the command line: {_why(finding, one)}", one.needs.name, finding.level)
            for one in (judged.command_line for judged in self.judgements)
            for finding in (one.findings if one else ())
            if finding.verdict in ("unmet", "unknown") and one
        ]
        name = self.judgements[0].needs.name
        return found + [
            Unresolved(NeedId("php"), f"cannot be installed: {what}", name, "required") for what in self.missing
        ]


class Planner:
    """Plans for one server.  Keeps what is worked out once for all applications."""

    def __init__(self, survey: Survey, today: date, *, recommended: bool = True, added: Sequence[str] = ()) -> None:
        self.survey, self.today, self.added = survey, today, added
        self.market = Market(survey)
        self._resolver: Resolver | None = None
        self.levels: Sequence[Level] = LEVELS if recommended else LEVELS[:1]

    def targets(
        self, applications: Sequence[Needs], selectors: Sequence[str | None]
    ) -> tuple[list[Target], Decision | None, Candidate | None]:
        """The runtime for each application: as named, or the best of those that there are or could be.

        Last the choice that changes the server first, by switching on another module stream.
        """
        found = choice.candidates(self.survey, self.market)
        if not found or any(selectors):
            pairs = zip(applications, selectors, strict=True)
            named = [choose(self.survey, needs, one, self.market) for needs, one in pairs]
            return named, self._cost(applications, named, found), None
        serving = [one for one in self.survey.runtimes if one.serves]
        chosen = choice.decide(applications, found, self.trial, self.today)
        out = []
        for needs, one in zip(applications, chosen.candidates, strict=True):
            only = len(serving) == 1 and one.target.runtime.label == serving[0].label
            out.append(choose(self.survey, needs, None, self.market) if only else one.target)
        switched = next((one for one in chosen.candidates if one.switch), None)
        return out, chosen.decision if len(chosen.decision.rows) > 1 else None, switched

    def _cost(
        self, applications: Sequence[Needs], named: Sequence[Target], found: Sequence[Candidate]
    ) -> Decision | None:
        """The comparison although the choice was taken away, so that what it costs is seen."""
        runtime = named[0].runtime
        if len(found) < 2 or all((c.branch, c.target.runtime.home) != (runtime.branch, runtime.home) for c in found):
            return None
        decision = choice.decide(applications, found, self.trial, self.today).decision
        everyone = tuple(needs.name for needs in applications)
        rows = []
        for one, row in zip(found[-len(decision.rows) :], decision.rows, strict=True):
            if (one.branch, one.target.runtime.home) == (runtime.branch, runtime.home):
                cost = "" if row.chosen_for == everyone else f", although {row.reason}"
                if row.chosen_for and row.chosen_for != everyone:
                    cost = f", although it would be taken for {', '.join(row.chosen_for)} only"
                row = msgspec.structs.replace(row, chosen_for=everyone, reason=f"named with --runtime{cost}")
            elif row.chosen_for:
                reason = f"would have been taken for {', '.join(row.chosen_for)}"
                row = msgspec.structs.replace(row, chosen_for=(), reason=reason)
            rows.append(row)
        return msgspec.structs.replace(decision, rows=tuple(rows), conflict=())

    def trial(self, needs: Needs, one: Candidate) -> Outcome:
        """How one application would fare on one candidate."""
        planner = self if one.switch is None else self._elsewhere(one.survey)
        target = msgspec.structs.replace(one.target, wanted=True)
        settled = planner.settle([needs], [target], needs.name)
        installs = sum(isinstance(action, Install) for action in settled.actions.values()) + len(settled.along)
        return Outcome(tuple(settled.unresolved()), installs, settled.removes)

    def settle(
        self, applications: Sequence[Needs], targets: Sequence[Target], label: str, added: Sequence[AddPool] = ()
    ) -> Settled:
        """Find what mends every finding that can be mended, and prove it by checking again.

        ``added`` are the pools that will be there as soon as the branch they belong to is.
        """
        market = self.market
        survey = _with_pools(added, self.survey, market)
        judgements = tuple(judge(n, survey, t, market) for n, t in zip(applications, targets, strict=True))
        done = Settled({}, {}, judgements)
        world = survey
        for _ in range(ROUNDS):
            fresh = mend(done.judgements, world, market, label, self.levels, done.reasons)
            fresh = {key: action for key, action in fresh.items() if done.actions.get(key) != action}
            if not fresh:
                break
            done.actions |= fresh
            self._dependencies(done)
            world = apply(fresh.values(), world, market, done.along, done.removes)
            world = _with_pools(added, world, market)
            done.judgements = tuple(
                judge(one.needs, world, _same_target(one.target, world), market) for one in done.judgements
            )
        done.world = world
        return done

    def _dependencies(self, done: Settled) -> None:
        wanted = [action.package for action in done.actions.values() if isinstance(action, Install)]
        if not wanted or not self.market.platform.resolved_here:
            return  # what comes along elsewhere, the package manager itself will say
        dependencies = entry("fundamentum.plan", "dependencies")  # brings a library that is slow to import
        self._resolver = self._resolver or dependencies.Resolver(self.survey, self.market)
        along = self._resolver.along(wanted)
        done.along, done.removes, done.missing = tuple(along.packages), tuple(along.removed), tuple(along.missing)
        done.asides = tuple(dependencies.asides(along, wanted, self.survey))

    def plan(self, applications: Sequence[Needs], selector: str | Sequence[str | None] | None = None) -> Plan:
        """The changes that make these applications run on this server."""
        selectors = [selector] * len(applications) if selector is None or isinstance(selector, str) else selector
        targets, decision, switched = self.targets(applications, selectors)
        if switched:
            return msgspec.structs.replace(
                self._elsewhere(switched.survey)._plan(applications, targets, decision), switch=switched.switch
            )
        return self._plan(applications, targets, decision)

    def _elsewhere(self, survey: Survey) -> "Planner":
        return Planner(survey, self.today, recommended=len(self.levels) > 1, added=self.added)

    def _plan(self, applications: Sequence[Needs], targets: list[Target], decision: Decision | None) -> Plan:
        before = tuple(judge(n, self.survey, t, self.market) for n, t in zip(applications, targets, strict=True))
        label = "-".join(dict.fromkeys(needs.name for needs in applications))[:60]
        placed, added, odds = pools.split(applications, targets, self.survey, self.levels)
        if added:
            decision = msgspec.structs.replace(decision or Decision(), apart=tuple(odds))
        done = self.settle(applications, placed, label, added)
        installs = [a for a in done.actions.values() if isinstance(a, Install)]
        settings = tuple(a for a in done.actions.values() if isinstance(a, Set))
        lines = [a for a in done.actions.values() if isinstance(a, AddLine)]
        changed, whole, own, plain = edits(lines, settings, self.survey.runtimes)
        managed = tuple(a for a in done.actions.values() if isinstance(a, Manage))
        relined = tuple(a for a in done.actions.values() if isinstance(a, ChangeLine))
        widened = tuple(a for a in done.actions.values() if isinstance(a, Widen))
        opened = tuple(a for a in done.actions.values() if isinstance(a, AddLines))
        allowed = tuple(a for a in done.actions.values() if isinstance(a, Allow))
        scheduled = tuple(a for a in done.actions.values() if isinstance(a, Schedule))
        files = [*files_of(plain, managed, added, self.survey, label), *whole]
        files += [*web_server_files(allowed, opened, label), *cron_files(scheduled, label)]
        files += [DropIn(one.file, f"; As planned by fundamentum.\n{one.line}\n") for one in own]
        offers = {name: self.market.package(name) for name in [*done.along, *(one.package for one in installs)]}
        return Plan(
            server=self.survey.server,
            family=self.survey.system.family,
            before=before,
            after=done.judgements,
            installs=tuple(sorted(installs, key=lambda a: a.package)),
            along=done.along,
            removes=done.removes,
            asides=done.asides,
            enables=tuple(a for a in done.actions.values() if isinstance(a, Enable)),
            settings=settings,
            lines=tuple(lines),
            edits=(*changed, *line_edits([*widened, *relined, *opened])),
            managed=managed,
            widened=widened,
            relined=relined,
            opened=opened,
            others=effects(self.survey, done.world or self.survey, [*placed, *_of_command_line(done.judgements)]),
            allowed=allowed,
            arranged=tuple(a for a in done.actions.values() if isinstance(a, Arrange)),
            scheduled=scheduled,
            switched=tuple(a for a in done.actions.values() if isinstance(a, SwitchOn)),
            pools=tuple(added),
            files=tuple(files),
            restarts=tuple(restarts([*done.actions.values(), *added], placed, self.survey.system.family)),
            reasons={key: tuple(found) for key, found in done.reasons.items()},
            sources={name: offer.source for name, offer in offers.items() if offer},
            versions={name: offer.version for name, offer in offers.items() if offer},
            unresolved=tuple(done.unresolved()),
            decision=decision,
            repositories=self._added(offers.values()),
        )

    def _added(self, offers: Iterable[Offer | None]) -> tuple[str, ...]:
        """The sources of this plan's packages that are not configured on the server yet."""
        used = {offer.source for offer in offers if offer}
        return tuple(name for name in self.added if name in used)


def plan(
    applications: Sequence[Needs],
    survey: Survey,
    selector: str | Sequence[str | None] | None = None,
    *,
    recommended: bool = True,
    today: date,
    added: Sequence[str] = (),
) -> Plan:
    """The changes that make these applications run on this server.

    ``selector`` names what serves them, one for all or one for each.  ``today`` decides what is still supported;
    ``added`` names the sources in the survey that are not configured yet.
    """
    planner = Planner(survey, today, recommended=recommended, added=added)
    return planner.plan(applications, selector)


def _of_command_line(judgements: Iterable[Judgement]) -> list[Target]:
    return [one.command_line.target for one in judgements if one.command_line]


def _with_pools(added: Iterable[AddPool], world: Survey, market: Market) -> Survey:
    there = {runtime.label for runtime in world.runtimes}
    return apply([pool for pool in added if pool.runtime not in there], world, market)


def _same_target(target: Target, world: Survey) -> Target:
    found = next((runtime for runtime in world.runtimes if runtime.label == target.runtime.label), None)
    if found:
        return msgspec.structs.replace(target, runtime=found, present=True, base=None, part=None)
    return target if not target.present else msgspec.structs.replace(target, present=False, base=None, part=None)


def _why(finding: Finding, judgement: Judgement) -> str:
    if finding.need != "php" and refused(judgement):
        return f"{finding.found or 'not met'}; nothing is done for it on a PHP that it does not accept"
    return "; ".join(part for part in (finding.found, finding.remedy) if part)
