"""Which PHP each application shall run on: every branch the server has or can have is weighed, and the best taken.

The cost of a choice is a row of numbers, compared from the left.  Each is a sum over the applications, or over the
branches that are used, so for a given set of branches every application can take its own best; and there are few
enough branches to try every set of them.  The result is exact.
"""

import itertools
from collections.abc import Callable, Sequence
from datetime import date
from typing import Final

from fundamentum.catalog import branch_key, security_ends
from fundamentum.effective.fresh_runtime import fresh_runtime
from fundamentum.kinds import in_words
from fundamentum.model.findings import Target
from fundamentum.model.needs import Needs
from fundamentum.model.needs_value import Value
from fundamentum.model.php import Runtime, Sapi
from fundamentum.model.survey import Survey
from fundamentum.plan import module_streams
from fundamentum.plan.made_plan import Decision, Row, Unresolved
from fundamentum.platforms import platform
from fundamentum.platforms.offers import Offers

MAX_BRANCHES: Final = 14
"""Sets of branches are tried one by one, so no more than this many can be; only a made-up server has more."""
Cost = tuple[int, ...]
CRITERIA: Final = ("required", "branches", "unsupported", "installed", "recommended", "preferred", "newer")
"""What is compared, the most important first: required needs that stay unmet; branches in use; branches nobody fixes;
branches to be installed; recommended needs that stay unmet; applications that would prefer another branch; branches
that are newer."""


class Candidate(Value, frozen=True):
    """One branch on which applications could run, as a runtime that is there or would be."""

    target: Target
    survey: Survey
    """The server as it would have to be for this: another module stream may have to be switched on."""
    switch: str | None = None
    """That module stream."""
    supported_until: date | None = None
    maintained_by: str = ""
    """The distribution whose own packages these are."""

    @property
    def alone(self) -> bool:
        """Whether it takes the place of every other of its kind: RHEL's own PHP comes in one branch at a time."""
        return platform(self.survey.system.family).one_branch and not self.target.runtime.home

    @property
    def branch(self) -> str:
        return self.target.runtime.branch

    @property
    def name(self) -> str:
        """The branch, with its place where that is not the distribution's own."""
        home = self.target.runtime.home
        return f"{self.branch}@{home}" if home else self.branch


class Outcome(Value, frozen=True):
    """How one application would fare on one candidate, once all that can be done there is done."""

    unresolved: tuple[Unresolved, ...] = ()
    installs: int = 0
    """Packages to install for it, with what comes along."""
    removes: tuple[str, ...] = ()
    """Packages that this would take away."""

    def open(self, level: str) -> list[Unresolved]:
        """The needs of that level that stay unmet."""
        return [need for need in self.unresolved if need.level == level]


class Chosen(Value, frozen=True):
    """The candidate of each application, and how that came about."""

    candidates: tuple[Candidate, ...]
    decision: Decision


Trial = Callable[[Needs, Candidate], Outcome]


def candidates(survey: Survey, offers: Offers, ways: Sequence[Sapi] = ()) -> list[Candidate]:
    """Every branch that could run web applications here, oldest first; ``ways``: run in one of these ways only."""
    by_runtime: dict[tuple[str, str | None], Candidate] = {}
    serving = sorted(survey.runtimes, key=lambda listed: not listed.serves)
    for runtime in serving:
        if runtime.sapi != "cli" and (not ways or runtime.sapi in ways):
            target = _present(survey, runtime)
            by_runtime.setdefault((runtime.branch, runtime.home), _candidate(target, survey, offers))
    for switched in module_streams.candidates(survey, offers):
        offers_then = Offers(switched.survey)
        by_runtime.setdefault(
            (switched.branch, switched.switch),
            _candidate(switched.target, switched.survey, offers_then, switched.switch),
        )
    fresh = ways[0] if ways else "fpm"
    for branch in offers.branches(fresh):
        if (branch, "") not in by_runtime:
            target = Target(fresh_runtime(survey, branch, fresh), "offered, and judged as a fresh installation", False)
            by_runtime[branch, ""] = _candidate(target, survey, offers)
    return sorted(by_runtime.values(), key=lambda candidate: (branch_key(candidate.branch), candidate.name))


def _present(survey: Survey, runtime: Runtime) -> Target:
    """A runtime that is there, for the sites it serves, or for the only one here, which could be handed to it."""
    sites = list(dict.fromkeys(site.name for site in survey.sites if site.runtime == runtime.label))
    if sites:
        and_more = f" and {len(sites) - 3} more" if len(sites) > 3 else ""
        return Target(runtime, f"it serves {', '.join(sites[:3])}{and_more}")
    could = {site.name for site in survey.idle_sites if site.runtime == runtime.label}
    if len(could) == 1 and not survey.sites:
        return Target(runtime, f"it is installed here, and {(name := could.pop())} can be handed to it", site=name)
    return Target(runtime, "it serves the web here" if runtime.serves else "it is installed here")


def _candidate(target: Target, survey: Survey, offers: Offers, switch: str | None = None) -> Candidate:
    runtime = target.runtime
    offer = offers.runtime_package(runtime.branch, runtime.sapi)
    source = next((repository for repository in survey.repositories if offer and repository.name == offer.source), None)
    own = bool(source and source.origin and source.origin.lower() == survey.system.id.lower())
    by = f"{source.origin} {source.codename}".strip() if own and source else ""
    return Candidate(target, survey, switch, security_ends(runtime.branch), by)


def decide(applications: Sequence[Needs], choices: Sequence[Candidate], trial: Trial, today: date) -> Chosen:
    """The cheapest candidate for each application.  ``trial`` says how an application fares on a candidate."""
    choices = choices[-MAX_BRANCHES:]
    outcomes = [[trial(needs, candidate) for candidate in choices] for needs in applications]
    costs = [
        [_own_cost(needs, candidate, outcome) for candidate, outcome in zip(choices, row, strict=True)]
        for needs, row in zip(applications, outcomes, strict=True)
    ]
    fixed = [_branch_cost(candidate, choices, today) for candidate in choices]
    taken = cheapest(costs, fixed, [candidate.alone for candidate in choices])
    total = _total(costs, fixed, taken)
    rows = []
    for number, choice in enumerate(choices):
        mine = tuple(n.name for n, at in zip(applications, taken, strict=True) if at == number)
        column = [row[number] for row in outcomes]
        sites = tuple(
            dict.fromkeys(site.name for site in choice.survey.sites if site.runtime == choice.target.runtime.label)
        )
        reason = _taken(choice) if mine else _against(number, applications, choices, outcomes, costs, fixed, total)
        rows.append(
            Row(
                choice.name,
                choice.target.present and choice.switch is None,
                choice.target.runtime.version,
                choice.supported_until,
                choice.maintained_by,
                mine,
                sum(len(o.open("required")) for o in column),
                sum(len(o.open("recommended")) for o in column),
                max((o.installs for o in column), default=0),
                tuple(dict.fromkeys(name for o in column for name in o.removes)),
                sites,
                reason,
            )
        )
    conflict = conflicting(outcomes) if len(set(taken)) > 1 else ()
    words = tuple(_in_words(applications, demand) for demand in conflict)
    return Chosen(tuple(choices[at] for at in taken), Decision(tuple(rows), words))


def cheapest(costs: Sequence[Sequence[Cost]], fixed: Sequence[Cost], alone: Sequence[bool] = ()) -> list[int]:
    """For each application the number of its candidate, so that the sum of all costs is the least possible.

    Of those that are ``alone``, only one can be taken.
    """
    best: tuple[Cost, list[int]] | None = None
    for size in range(1, min(len(costs), len(fixed)) + 1):
        for group in itertools.combinations(range(len(fixed)), size):
            if sum(alone[at] for at in group if alone) > 1:
                continue
            chosen = [min(group, key=row.__getitem__) for row in costs]
            cost = _total(costs, fixed, chosen)
            if best is None or cost < best[0]:
                best = (cost, chosen)
    assert best is not None
    return best[1]


def _total(costs: Sequence[Sequence[Cost]], fixed: Sequence[Cost], chosen: Sequence[int]) -> Cost:
    parts = [row[at] for row, at in zip(costs, chosen, strict=True)] + [fixed[at] for at in set(chosen)]
    return tuple(map(sum, zip(*parts, strict=True)))


def _own_cost(needs: Needs, candidate: Candidate, outcome: Outcome) -> Cost:
    other = needs.would_rather_have_another(candidate.branch)
    return len(outcome.open("required")), 0, 0, 0, len(outcome.open("recommended")), int(other), 0


def _branch_cost(candidate: Candidate, choices: Sequence[Candidate], today: date) -> Cost:
    newer = sum(branch_key(other.branch) > branch_key(candidate.branch) for other in choices)
    return (
        0,
        1,
        int(not supported(candidate, today)),
        int(not candidate.target.present or candidate.switch is not None),
        0,
        0,
        newer,
    )


def supported(candidate: Candidate, today: date) -> bool:
    """Whether somebody still fixes security problems: the PHP project, or the distribution in its own packages."""
    return bool(candidate.maintained_by) or (
        candidate.supported_until is not None and candidate.supported_until >= today
    )


def _taken(candidate: Candidate) -> str:
    return candidate.target.reason


def _against(
    number: int,
    applications: Sequence[Needs],
    choices: Sequence[Candidate],
    outcomes: Sequence[Sequence[Outcome]],
    costs: Sequence[Sequence[Cost]],
    fixed: Sequence[Cost],
    total: Cost,
) -> str:
    """What decided against a candidate: the first criterion in which running everything possible on it is worse."""
    lacking = [need for row in outcomes for need in row[number].open("required")]
    alone = _total(costs, fixed, [number] * len(costs))
    for criterion, ours, theirs in zip(CRITERIA, alone, total, strict=True):
        if ours == theirs:
            continue
        if criterion == "required":
            return _lack(lacking) if lacking else "does not serve all"
        if criterion == "recommended":
            return _lack([need for row in outcomes for need in row[number].open("recommended")])
        others = [n.name for n in applications if n.would_rather_have_another(choices[number].branch)]
        return {
            "unsupported": f"nobody fixes its security problems since {choices[number].supported_until}",
            "installed": "not installed, and what is installed is good enough",
            "preferred": f"{', '.join(others)} would rather have another",
            "newer": "older than the one taken",
        }.get(criterion, "one more branch than needed")
    return "no better than the one taken"


def _lack(lacking: Sequence[Unresolved]) -> str:
    if not lacking:
        return "does not serve all"
    first = lacking[0]
    need = first.need
    what = "accepts only other versions" if need == "php" else f"would lack {in_words(need)}"
    and_more = f", and {len(lacking) - 1} more" if len(lacking) > 1 else ""
    return f"{first.application} {what}{and_more}"


def conflicting(outcomes: Sequence[Sequence[Outcome]]) -> tuple[tuple[int, str], ...]:
    """A smallest set of needs, each as application and need, of which every candidate fails at least one."""
    failing = [
        {(at, need.need) for at, row in enumerate(outcomes) for need in row[number].open("required")}
        for number in range(len(outcomes[0]))
    ]
    if not all(failing):
        return ()
    # Of equally small sets the one that speaks of versions: nothing else matters on a branch that is not accepted.
    universe = sorted(set().union(*failing), key=lambda demand: (demand[1] != "php", demand))
    for size in range(1, len(failing) + 1):
        for group in itertools.combinations(universe, size):
            if all(set(group) & demands for demands in failing):
                return group
    return ()


def _in_words(applications: Sequence[Needs], demand: tuple[int, str]) -> str:
    needs = applications[demand[0]]
    if demand[1] == "php":
        return f"{needs.name} accepts PHP {needs.php}"
    return f"{needs.name} needs the {in_words(demand[1])}"
