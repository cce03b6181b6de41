"""A plan put together from what was settled: the changes as steps, and everything that is told of them."""

from collections.abc import Iterable, Sequence

from fundamentum.changes.base import Change, Place
from fundamentum.changes.packages import Install
from fundamentum.changes.steps import steps
from fundamentum.model.findings import Judgement, Target
from fundamentum.model.packages import Offer
from fundamentum.plan.effects_on_others import effects
from fundamentum.plan.hints import hints
from fundamentum.plan.made_plan import Decision, Plan
from fundamentum.plan.new_site import WantedSite
from fundamentum.plan.proof import proofs
from fundamentum.plan.rests_on import rests_on
from fundamentum.plan.settled import Settled, planned
from fundamentum.platforms.offers import Offers


def offers_taken(done: Settled, offers: Offers) -> dict[str, Offer]:
    """The offers that the plan takes, by the names of their packages."""
    installs = (change.package for change in done.changes.values() if isinstance(change, Install))
    offered = {name: offers.package(name) for name in [*done.along, *installs]}
    return {name: offer for name, offer in offered.items() if offer}


def assembled(
    done: Settled,
    changes: Sequence[Change],
    place: Place,
    before: tuple[Judgement, ...],
    placed: Sequence[Target],
    decision: Decision | None,
    offers: Offers,
    site: WantedSite | None,
) -> Plan:
    """The plan: ``before`` is how the applications fare now, ``placed`` where they will run."""
    survey = place.survey
    told = ((change.key, change.consequence(place)) for change in changes)
    ordered = steps(changes, place)
    return Plan(
        server=survey.server,
        family=survey.system.family,
        applications=tuple(map(planned, before, done.judgements)),
        before=before,
        after=done.judgements,
        changes=tuple(changes),
        steps=ordered,
        reasons={key: tuple(reason) for key, reason in done.reasons.items()},
        consequences={key: words for key, words in told if words},
        words={change.key: change.words(offers) for change in changes},
        along=done.along,
        upgrades=done.upgrades,
        fetch=done.fetch,
        space=done.space,
        removes=done.removes,
        asides=done.asides,
        sources={name: offer.source for name, offer in offers_taken(done, offers).items()},
        unresolved=tuple(done.unresolved()),
        decision=decision,
        hints=tuple(hints(survey, offers, done.judgements, site)),
        rests_on=rests_on(before, survey, ordered),
        proofs=tuple(proofs(done.judgements, done.world or survey, offers)),
        others=effects(survey, done.world or survey, [*placed, *_of_command_line(done.judgements)]),
    )


def _of_command_line(judgements: Iterable[Judgement]) -> list[Target]:
    return [judgement.command_line.target for judgement in judgements if judgement.command_line]
