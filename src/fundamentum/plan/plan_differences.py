"""Two plans side by side: what one of them does, leaves undone or rests on that the other does not."""

from collections.abc import Callable, Iterator
from typing import Final

from fundamentum.check.survey_differences import ABSENT, Difference
from fundamentum.plan.made_plan import Plan

_Told = dict[str, str]
_TABLES: Final[tuple[tuple[str, str, Callable[[Plan], _Told]], ...]] = (
    ("server", ABSENT, lambda plan: {"name": plan.server}),
    ("applications", ABSENT, lambda plan: _applications(plan)),
    ("changes", "not planned", lambda plan: plan.words),
    ("packages that come along", "not planned", lambda plan: dict.fromkeys(plan.along, "comes along")),
    (
        "upgrades",
        "not planned",
        lambda plan: {upgrade.package: f"{upgrade.before} -> {upgrade.after}" for upgrade in plan.upgrades},
    ),
    (
        "not resolved",
        "resolved",
        lambda plan: {f"{unresolved.application} {unresolved.need}": unresolved.why for unresolved in plan.unresolved},
    ),
    ("for other sites", "unchanged", lambda plan: _others(plan)),
)
"""What is compared: its heading, what is said where one side has nothing, and what a plan has."""


def plan_differences(first: Plan, second: Plan) -> tuple[Difference, ...]:
    """What differs, grouped: whom it is for, what is done, what stays unmet, and the files that have changed."""
    return (*_told(first, second), *_files(first, second))


def _told(first: Plan, second: Plan) -> Iterator[Difference]:
    for where, absent, told in _TABLES:
        sides = told(first), told(second)
        for what in dict.fromkeys((*sides[0], *sides[1])):
            value, other = (side.get(what, absent) for side in sides)
            if value != other:
                yield Difference(where, what, value, other)


def _files(first: Plan, second: Plan) -> Iterator[Difference]:
    for path, mark in first.rests_on.items():
        if second.rests_on.get(path, mark) != mark:
            yield Difference("files it rests on", path, "as it was then", "has changed since")


def _applications(plan: Plan) -> _Told:
    return {
        application.name: f"{application.met} of {application.needs} needs met, on {application.runtime}"
        for application in plan.applications
    }


def _others(plan: Plan) -> _Told:
    return {f"{other.site} {other.name}": f"{other.before} -> {other.after}" for other in plan.others}
