"""As whom PHP works: its user, and the group that its processes are given in place of his own."""

import pytest

from fundamentum.effective.file_access import account_named, allowed
from fundamentum.model.surrounding_facts import Account, Place
from fundamentum.model.survey import Survey
from fundamentum.model.system import System

SURVEY = Survey(
    4, "vega", System(), accounts=(Account("ida", 1000, (1000, 44), "ida"),), groups={"stars": 50, "ida": 1000}
)
GROUPS: list[tuple[str | None, tuple[int, ...]]] = [  # the group that is given; those that the process is in, then
    (None, (1000, 44)),
    ("stars", (50, 44)),
    ("50", (50, 44)),
    ("ida", (1000, 44)),
    ("44", (44,)),
    ("gone", (1000, 44)),
]


@pytest.mark.parametrize(("group", "groups"), GROUPS)
def test_the_groups_of_a_process(group: str | None, groups: tuple[int, ...]) -> None:
    account = account_named(SURVEY, "ida", group)
    assert account and account.groups == groups


def test_what_belongs_to_the_users_own_group_is_not_open_to_processes_of_another() -> None:
    """As a real pool with ``group =`` answered: it could not write there."""
    place = Place("/srv/plates", "directory", user=0, group=1000, mode=0o770)
    shared = Place("/srv/plates", "directory", user=0, group=50, mode=0o707)
    own, given = account_named(SURVEY, "ida"), account_named(SURVEY, "ida", "stars")
    assert own and given
    assert [(allowed(directory, own), allowed(directory, given)) for directory in (place, shared)] == [(7, 0), (7, 0)]
