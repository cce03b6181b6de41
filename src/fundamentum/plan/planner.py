"""Make a plan: choose the PHP, mend what can be mended, apply that to the survey, and check until nothing changes."""

from collections.abc import Iterator, Sequence
from datetime import date
from typing import Final

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.database import PrepareDatabase
from fundamentum.changes.module_stream import UseStream
from fundamentum.changes.package_source import AddSource
from fundamentum.changes.packages import Install
from fundamentum.changes.pool import AddPool
from fundamentum.changes.removal import LetGo
from fundamentum.changes.service import Restart
from fundamentum.changes.site import AddSite
from fundamentum.changes.site_pool import MoveSite
from fundamentum.changes.steps import restarts
from fundamentum.check.judge import judge
from fundamentum.check.judged_runtime import choose
from fundamentum.check.remedies import refused, remedies
from fundamentum.errors import FundamentumError
from fundamentum.model.findings import Target
from fundamentum.model.needs import LEVELS, Needs
from fundamentum.model.needs_value import Level
from fundamentum.model.survey import Survey
from fundamentum.plan import branch_choice, new_site, separate_pools
from fundamentum.plan.apply_changes import apply
from fundamentum.plan.assembled_plan import assembled, offers_taken
from fundamentum.plan.branch_choice import Candidate, Outcome
from fundamentum.plan.impossible_packages import no_php, without_impossible
from fundamentum.plan.made_plan import Decision, Plan, Upgrade
from fundamentum.plan.named_choice import as_named
from fundamentum.plan.new_site import WantedSite
from fundamentum.plan.package_dependencies import Resolver
from fundamentum.plan.settled import Settled
from fundamentum.plan.unexpected_packages import asides
from fundamentum.platforms.offers import Offers

LATER: Final = (AddPool, AddSite, MoveSite)
"""Changes that have their effect once what they rest on is there."""
ROUNDS: Final = 20
"""One change can bring another need to light (an extension its directives, say), but not often in a row."""


class Planner:
    """Plans for one server.  Keeps what is worked out once for all applications."""

    def __init__(
        self,
        survey: Survey,
        today: date,
        *,
        recommended: bool = True,
        added: Sequence[str] = (),
        password_file: str = "",
    ) -> None:
        self.survey, self.today, self.added, self.password_file = survey, today, added, password_file
        self.offers = Offers(survey)
        self._resolver: Resolver | None = None
        self.site: WantedSite | None = None
        self.selectors: Sequence[str | None] = ()
        self.levels: Sequence[Level] = LEVELS if recommended else LEVELS[:1]

    def targets(
        self, applications: Sequence[Needs], selectors: Sequence[str | None], site: WantedSite | None = None
    ) -> tuple[list[Target], Decision | None, Candidate | None]:
        """The runtime for each application: as named, or the best of those that there are or could be.

        Last the choice that changes the server first, by switching on another module stream.
        """
        self.site = site
        if site:
            candidates = new_site.fitting(site, self.survey, self.offers)
            if selector := next(filter(None, selectors), None):
                candidates = [
                    candidate
                    for candidate in candidates
                    if f"{candidate.target.runtime.label}/".startswith(f"{selector}/")
                ]
            if not candidates:
                raise FundamentumError(f"{self.survey.server}: no PHP is here or offered that could serve {site.name}")
        else:
            candidates = branch_choice.candidates(self.survey, self.offers)
        if not candidates or (any(selectors) and site is None):
            pairs = zip(applications, selectors, strict=True)
            named = [choose(self.survey, needs, selection, self.offers) for needs, selection in pairs]
            return named, self._cost(applications, named, candidates), None
        serving = [runtime for runtime in self.survey.runtimes if runtime.serves]
        chosen = branch_choice.decide(applications, candidates, self.trial, self.today)
        out = []
        for needs, choice in zip(applications, chosen.candidates, strict=True):
            only = site is None and len(serving) == 1 and choice.target.runtime.label == serving[0].label
            out.append(choose(self.survey, needs, None, self.offers) if only else choice.target)
        switched = next((candidate for candidate in chosen.candidates if candidate.switch), None)
        return out, chosen.decision if len(chosen.decision.rows) > 1 else None, switched

    def _cost(
        self, applications: Sequence[Needs], named: Sequence[Target], candidates: Sequence[Candidate]
    ) -> Decision | None:
        """The comparison although the choice was taken away, so that what it costs is seen."""
        runtime = named[0].runtime
        if len(candidates) < 2 or all(
            (c.branch, c.target.runtime.home) != (runtime.branch, runtime.home) for c in candidates
        ):
            return None
        decision = branch_choice.decide(applications, candidates, self.trial, self.today).decision
        return as_named(decision, candidates, runtime, tuple(needs.name for needs in applications))

    def trial(self, needs: Needs, candidate: Candidate) -> Outcome:
        """How one application would fare on one candidate."""
        planner = self if candidate.switch is None else self._elsewhere(candidate.survey)
        target = replace(candidate.target, wanted=True)
        added: list[Change] = []
        if self.site:
            added = list(new_site.changes(self.site, needs, target, planner.survey, planner.offers))
            target = new_site.target_of(added, target, self.site)
        settled = planner.settle([needs], [target], needs.name, added)
        installs = sum(isinstance(change, Install) for change in settled.changes.values()) + len(settled.along)
        return Outcome(tuple(settled.unresolved()), installs, settled.removes)

    def settle(
        self, applications: Sequence[Needs], targets: Sequence[Target], label: str, added: Sequence[Change] = ()
    ) -> Settled:
        """Find what mends every finding that can be mended, and prove it by checking again.

        ``added`` is what is planned whatever is found: pools and sites that will be there as soon as what they rest on
        is, and what that takes.
        """
        offers = self.offers
        survey = apply([change for change in added if isinstance(change, LATER)], self.survey, offers)
        judgements = tuple(judge(n, survey, t, offers) for n, t in zip(applications, targets, strict=True))
        done = Settled({}, {}, judgements)
        world = survey
        first = {change.key: change for change in added if not isinstance(change, LATER)}
        for _ in range(ROUNDS):
            advised = remedies(done.judgements, world, label, self.levels)
            for key, why in advised.reasons.items():
                done.reasons.setdefault(key, {}).update(why)
            wanted = first | {
                key: first[key].joined(change) if key in first else change for key, change in advised.changes.items()
            }
            fresh = {key: change for key, change in wanted.items() if done.changes.get(key) != change}
            first = {}
            if not fresh:
                break
            done.changes |= fresh
            self._dependencies(done)
            world = apply(fresh.values(), world, offers, done.along, done.removes)
            world = apply([change for change in added if isinstance(change, LATER)], world, offers)
            done.judgements = tuple(
                judge(judgement.needs, world, _same_target(judgement.target, world), offers)
                for judgement in done.judgements
            )
        done.world = world
        return done

    def _dependencies(self, done: Settled) -> None:
        wanted = [change.package for change in done.changes.values() if isinstance(change, Install)]
        if not wanted or not self.offers.platform.resolved_here:
            return  # what comes along elsewhere, the package manager itself will say
        self._resolver = self._resolver or Resolver(self.survey, self.offers)
        along = self._resolver.along(wanted)
        done.along, done.removes, done.missing = tuple(along.packages), tuple(along.removed), tuple(along.missing)
        had = {(offer.name, offer.version) for offer in self.survey.offers or () if offer.name in along.upgrades}
        done.upgrades = tuple(
            Upgrade(name, before, after, (name, before) in had)
            for name, (before, after) in sorted(along.upgrades.items())
        )
        done.fetch, done.space = along.fetch, along.space
        done.asides = tuple(asides(along, wanted, self.survey))

    def plan(
        self,
        applications: Sequence[Needs],
        selector: str | Sequence[str | None] | None = None,
        site: WantedSite | None = None,
    ) -> Plan:
        """The changes that make these applications run on this server; ``site``: one that is set up for the only."""
        selectors = [selector] * len(applications) if selector is None or isinstance(selector, str) else selector
        self.selectors = selectors
        targets, decision, switched = self.targets(applications, selectors, site)
        if switched:
            return self._elsewhere(switched.survey)._plan(applications, targets, decision, switched.switch)
        return self._plan(applications, targets, decision)

    def _elsewhere(self, survey: Survey) -> "Planner":
        planner = Planner(survey, self.today, recommended=len(self.levels) > 1, added=self.added)
        planner.password_file = self.password_file
        planner.site, planner.selectors = self.site, self.selectors
        return planner

    def _plan(
        self,
        applications: Sequence[Needs],
        targets: list[Target],
        decision: Decision | None,
        switch: str | None = None,
    ) -> Plan:
        before = tuple(judge(n, self.survey, t, self.offers) for n, t in zip(applications, targets, strict=True))
        label = "-".join(dict.fromkeys(needs.name for needs in applications))[:60]
        site = None if refused(before[0]) else self.site  # nothing is set up on a PHP that is not accepted
        placed, added, remarks = self._placed(applications, targets, site)
        decision = replace(decision or Decision(), apart=tuple(remarks)) if added and not self.site else decision
        done = self.settle(applications, placed, label, added)
        if done.missing and self._resolver:
            if possible := self._possible(done, targets):
                return self._elsewhere(possible).plan(applications, self.selectors, self.site)
            done, added = Settled({}, {}, before, missing=done.missing), []  # nothing of it would be installed
        for change in done.changes.values():
            if isinstance(change, PrepareDatabase):
                done.changes[change.key] = replace(change, given=self.password_file)
        if site:
            added = new_site.with_reasons(added, done, applications[0])
        later = [change for change in added if isinstance(change, LATER)]
        changes = [*self._decided(done, switch), *later, *done.changes.values()]
        place = Place(self.survey, self.offers.platform, label)
        return assembled(done, self._ordered(changes, placed), place, before, placed, decision, self.offers, site)

    def _placed(
        self, applications: Sequence[Needs], targets: list[Target], site: WantedSite | None
    ) -> tuple[list[Target], Sequence[Change], Sequence[str]]:
        """Where the applications will run, what makes these places, and what keeps them from sharing one."""
        if site:
            made = list(new_site.changes(site, applications[0], targets[0], self.survey, self.offers))
            return [new_site.target_of(made, targets[0], site)], made, ()
        if self.site:
            return list(targets), [], ()
        return separate_pools.split(applications, targets, self.survey, self.levels)

    def _possible(self, done: Settled, targets: Sequence[Target]) -> Survey | None:
        """The survey without the packages that cannot be installed; None if that leaves no PHP, or does not help."""
        wanted = [change.package for change in done.changes.values() if isinstance(change, Install)]
        possible = without_impossible(self.survey, wanted, self._resolver) if self._resolver else None
        if possible is None or not no_php(targets, possible):
            return possible
        bound = any(self.selectors) or self.site is not None  # another PHP is not what was asked for
        return possible if not bound and branch_choice.candidates(possible, Offers(possible)) else None

    def _decided(self, done: Settled, switch: str | None) -> Iterator[Change]:
        """What a person decides first: sources that are not configured yet, another module stream.

        A source counts by the packages of it that the plan names; by all that it takes from there, if it names none.
        """
        named = {change.package for change in done.changes.values() if isinstance(change, Install)}
        taken = offers_taken(done, self.offers)
        for source in self.added:
            packages = {name: offer.version for name, offer in taken.items() if offer.source == source}
            if packages:
                wanted = {name: version for name, version in packages.items() if name in named} or packages
                yield AddSource(source, tuple(wanted.items()))
        if done.removes:
            yield LetGo(done.removes)
        if switch:
            yield UseStream(switch)

    def _ordered(self, changes: Sequence[Change], targets: Sequence[Target]) -> list[Change]:
        """Packages by their names, the others in the order in which they were found; services last."""
        packages = sorted(
            (change for change in changes if isinstance(change, Install)), key=lambda install: install.package
        )
        others = [change for change in changes if not isinstance(change, Install | Restart)]
        first = [change for change in others if isinstance(change, AddSource | LetGo | UseStream)]
        rest = [change for change in others if change not in first]
        runtimes = [target.runtime for target in targets]
        return [*first, *packages, *rest, *restarts(changes, runtimes, self.offers.platform)]


def plan(
    applications: Sequence[Needs],
    survey: Survey,
    selector: str | Sequence[str | None] | None = None,
    *,
    recommended: bool = True,
    today: date,
    added: Sequence[str] = (),
    site: WantedSite | None = None,
    password_file: str = "",
) -> Plan:
    """The changes that make these applications run on this server.

    ``selector`` names what serves them, one for all or one for each.  ``today`` decides what is still supported;
    ``added`` names the sources in the survey that are not configured yet; ``site`` is one to be set up, for the only
    application; ``password_file``, on the server, holds the password for a database's user.
    """
    planner = Planner(survey, today, recommended=recommended, added=added, password_file=password_file)
    return planner.plan(applications, selector, site)


def _same_target(target: Target, world: Survey) -> Target:
    listed = next((runtime for runtime in world.runtimes if runtime.label == target.runtime.label), None)
    if listed:
        return replace(target, runtime=listed, present=True, base=None, part=None)
    return target if not target.present else replace(target, present=False, base=None, part=None)
