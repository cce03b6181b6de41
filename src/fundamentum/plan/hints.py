"""What an administrator should know beside a plan, and what it leaves to him."""

from collections.abc import Iterator, Sequence

from fundamentum.kinds import in_words, kind_of
from fundamentum.model.findings import Judgement
from fundamentum.model.survey import Survey
from fundamentum.plan.needless_sources import needless
from fundamentum.plan.new_site import WantedSite, next_steps
from fundamentum.platforms.offers import Offers


def hints(survey: Survey, offers: Offers, judgements: Sequence[Judgement], site: WantedSite | None) -> Iterator[str]:
    """Each in a sentence.  ``judgements`` are those after the plan; ``site`` is one that it sets up."""
    yield from needless(survey, offers)
    yield from next_steps(site) if site else ()
    later: dict[str, list[str]] = {}
    for finding in (finding for judgement in judgements for finding in judgement.all_findings):
        if remedy := kind_of(finding.need).risky(finding)[1]:
            later.setdefault(remedy, []).append(in_words(finding.need))
    yield from (f"{', '.join(names)}: {remedy}" for remedy, names in later.items())
