"""What is to be done about findings: the demands of all needs on one thing joined, and each made into a change.

A check of an application tells the changes that a plan for it makes first: both come from here.
"""

from collections.abc import Iterator, Sequence
from typing import Any

import msgspec
from msgspec.structs import replace

from fundamentum.changes.base import Change
from fundamentum.changes.steps import restarts
from fundamentum.model.findings import Demand, Finding, Judgement, Link
from fundamentum.model.needs import LEVELS
from fundamentum.model.needs_value import Level
from fundamentum.model.reason import Reason
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class Remedies(msgspec.Struct):
    """The changes that some judgements call for, and why."""

    changes: dict[str, Change] = {}
    """By their keys."""
    reasons: dict[str, dict[Reason, None]] = {}
    """Why each is made, by its key."""
    of_demand: dict[object, Change] = {}
    """What became of each demand, by its key."""


def remedies(judgements: Sequence[Judgement], survey: Survey, label: str, levels: Sequence[Level]) -> Remedies:
    """The changes for every finding of these levels that is not met.  ``label`` names the applications."""
    demands: dict[object, Demand] = {}
    why: dict[object, dict[Reason, None]] = {}
    for judgement, finding in _findings(judgements, levels):
        reason = Reason(judgement.needs.name, finding.need, finding.level, finding.note)
        for demand in finding.demands:
            there = demands.get(demand.key)
            demands[demand.key] = there.joined(demand) if there else demand
            if demand.lacking:
                why.setdefault(demand.key, {})[reason] = None
    remedies_so_far, lacking = Remedies(), [demand for demand in demands.values() if demand.lacking]
    for key, demand in demands.items():
        change = demand.settled(label, survey, lacking) if demand.lacking else None
        if isinstance(change, Change):
            there = remedies_so_far.changes.get(change.key)
            remedies_so_far.changes[change.key] = there.joined(change) if there else change
            remedies_so_far.reasons.setdefault(change.key, {}).update(why[key])
            remedies_so_far.of_demand[key] = change
    return remedies_so_far


def _findings(judgements: Sequence[Judgement], levels: Sequence[Level]) -> Iterator[tuple[Judgement, Finding]]:
    """The findings that something is done about, of the command line too."""
    both = [*judgements, *(judgement.command_line for judgement in judgements if judgement.command_line)]
    for judgement in both:
        if not refused(judgement):
            yield from ((judgement, finding) for finding in judgement.findings if finding.level in levels)


def refused(judgement: Judgement) -> bool:
    """Whether the application does not accept this PHP: nothing is done for it there, unless to see what would be."""
    lost = ("other-branch", "unobtainable")
    accepted = any(finding.need == "php" and finding.state not in lost for finding in judgement.findings)
    return not accepted and not judgement.target.wanted


def with_remedies(judgement: Judgement, survey: Survey, offers: Offers) -> Judgement:
    """The judgement with the changes of a plan for it, and their lines as the remedies of its findings."""
    advised = remedies([judgement], survey, judgement.needs.name[:60], LEVELS)
    told = _told(judgement, advised, offers)
    line = judgement.command_line
    return replace(told, command_line=_told(line, advised, offers)) if line else told


def _told(judgement: Judgement, advised: Remedies, offers: Offers) -> Judgement:
    def of(finding: Finding) -> Finding:
        lacking = [demand.key for demand in finding.demands if demand.lacking]
        settled = [advised.of_demand[key] for key in lacking if key in advised.of_demand]
        changes = tuple({change.key: advised.changes[change.key] for change in settled}.values())
        return _with_words(finding, changes, judgement, offers) if changes else finding

    return replace(judgement, findings=tuple(of(finding) for finding in judgement.findings))


def _with_words(finding: Finding, changes: tuple[Change, ...], judgement: Judgement, offers: Offers) -> Finding:
    """The finding with its changes, told in their own words where it has no fuller ones."""
    services = restarts(changes, [judgement.target.runtime], offers.platform)
    own = {change.key for change in changes}
    then = " and ".join(f"{service.verb} {service.service}" for service in services if service.key not in own)
    finding = replace(finding, changes=changes, then=then)
    if finding.state == "awaiting-restart" or (finding.verdict != "unmet" and not finding.remedy):
        return finding
    if finding.chain:
        chain = tuple(_with_line(link, changes, offers) for link in finding.chain)
        narrow = dict.fromkeys(link.remedy for link in chain if link.enough is False and link.remedy)
        return replace(finding, chain=chain, remedy="; ".join(narrow))
    lines = [change.words(offers) for change in changes]
    fuller = finding.remedy and all(line in finding.remedy for line in lines)
    return finding if fuller else replace(finding, remedy="; ".join(lines))


def _with_line(link: Link, changes: Sequence[Change], offers: Offers) -> Link:
    """A link that is too narrow, with the line of the change that widens it."""
    if link.enough is not False or link.state == "awaiting-restart":
        return link
    mine = (change for change in changes if _widens(change, link))
    change = next(mine, None)
    return replace(link, remedy=change.words(offers)) if change else link


def _widens(change: Any, link: Link) -> bool:
    site = getattr(change, "site", "")
    return getattr(change, "name", None) == link.name and (link.site or "").startswith(site)
