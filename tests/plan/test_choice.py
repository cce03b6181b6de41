"""Which branch each application gets: the least cost there is, and the reasons that are given."""

import itertools
from datetime import date
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from fundamentum.needs.model import Needs
from fundamentum.plan.choice import Cost, Outcome, cheapest, conflicting
from fundamentum.plan.model import Unresolved
from fundamentum.plan.planner import plan
from fundamentum.server.hosts import DirectoryHost
from fundamentum.server.model import Survey
from fundamentum.server.survey import survey
from tests.check.test_states import needs
from tests.small_root import INDEX, small_root

TODAY = date(2026, 11, 24)
NEWER = (
    INDEX.replace("8.2", "8.4")
    .replace("20220829", "20240924")
    .replace("Package: php8.4-imap\n", "Package: php8.4-old\n")
)
costs = st.tuples(*[st.integers(0, 3)] * 4)


@settings(max_examples=300)
@given(st.data())
def test_no_other_choice_is_cheaper(data: st.DataObject) -> None:
    branches = data.draw(st.integers(1, 4))
    own: list[list[Cost]] = data.draw(
        st.lists(st.lists(costs, min_size=branches, max_size=branches), min_size=1, max_size=4)
    )
    fixed: list[Cost] = data.draw(st.lists(costs, min_size=branches, max_size=branches))

    def total(chosen: tuple[int, ...]) -> Cost:
        parts = [row[at] for row, at in zip(own, chosen, strict=True)] + [fixed[at] for at in set(chosen)]
        return tuple(map(sum, zip(*parts, strict=True)))

    best = min(map(total, itertools.product(range(branches), repeat=len(own))))
    assert total(tuple(cheapest(own, fixed))) == best


@given(st.lists(st.lists(st.sets(st.sampled_from("abcd"), max_size=3), min_size=3, max_size=3), min_size=1, max_size=3))
def test_a_conflict_is_as_small_as_can_be(lacking: list[list[set[str]]]) -> None:
    outcomes = [
        [Outcome(tuple(Unresolved(n, "", "x", "required") for n in sorted(one))) for one in row] for row in lacking
    ]
    found = conflicting(outcomes)
    failing = [{(at, n) for at, row in enumerate(lacking) for n in row[branch]} for branch in range(3)]
    if not all(failing):
        assert found == ()
        return
    assert all(set(found) & one for one in failing)
    universe = set().union(*failing)
    for smaller in itertools.combinations(sorted(universe), len(found) - 1):
        assert not all(set(smaller) & one for one in failing)


def server(folder: Path, modules: tuple[str, ...] = ("ctype", "pdo")) -> Survey:
    """8.2 installed, and 8.4 on offer beside it."""
    return survey(DirectoryHost(small_root(folder, modules, index=INDEX + "\n" + NEWER), "mizar"))


def named(name: str, wanted: Needs) -> Needs:
    return replace(wanted, name=name)


CASES = [  # needs, the branch taken, words against the other one
    (needs("gd"), "8.2", "what is installed is good enough"),
    (replace(needs("gd"), preferred="8.4"), "8.2", "what is installed is good enough"),
    (needs("gd", php=">=8.3"), "8.4", "accepts only other versions"),
    (needs("gd", "star", php="<8.4"), "8.2", "accepts only other versions"),
]


@pytest.mark.parametrize(("wanted", "branch", "words"), CASES)
def test_the_branch_and_what_decided_against_the_other(tmp_path: Path, wanted: Needs, branch: str, words: str) -> None:
    made = plan([wanted], server(tmp_path), today=TODAY)
    assert made.after[0].target.runtime.branch == branch
    assert made.decision
    rows = {row.name: row for row in made.decision.rows}
    assert set(rows) == {"8.2", "8.4"}
    assert rows[branch].chosen_for == ("nightlog",)
    assert words in next(row.reason for name, row in rows.items() if name != branch)
    assert made.complete


def test_a_branch_nobody_fixes_gives_way(tmp_path: Path) -> None:
    later = date(2027, 6, 1)  # 8.2 is no longer fixed by the PHP project, and no distribution says it goes on
    made = plan([needs("gd")], server(tmp_path), today=later)
    assert made.after[0].target.runtime.branch == "8.4"
    assert made.decision
    assert "nobody fixes its security problems since 2026-12-31" in made.decision.rows[0].reason


def test_two_that_cannot_share_get_two_branches_and_are_told_why(tmp_path: Path) -> None:
    made = plan(
        [named("platevault", needs("gd", php="<8.3")), named("domekeeper", needs("gd", php=">=8.3"))],
        server(tmp_path),
        today=TODAY,
    )
    assert [one.target.runtime.branch for one in made.after] == ["8.2", "8.4"]
    assert made.decision
    assert set(made.decision.conflict) == {"platevault accepts PHP <8.3", "domekeeper accepts PHP >=8.3"}
    assert made.complete


def test_one_branch_for_all_where_one_serves_all(tmp_path: Path) -> None:
    made = plan(
        [named("platevault", needs("gd")), named("domekeeper", needs("gd", php=">=8.3"))], server(tmp_path), today=TODAY
    )
    assert {one.target.runtime.branch for one in made.after} == {"8.4"}
    assert made.decision
    assert made.decision.conflict == ()


@pytest.mark.parametrize(
    ("one", "two", "apart"),
    [
        ('memory_limit = ">= 256M"', 'memory_limit = ">= 512M"', False),
        ('memory_limit = ">= 64M"', 'memory_limit = ">= 1G"', True),
        ('memory_limit = "<= 128M"', 'memory_limit = ">= 256M"', True),
        ('"session.auto_start" = "on"', '"session.auto_start" = "off"', True),
        ('post_max_size = ">= 8M"', 'post_max_size = ">= 800M"', False),
    ],
)
def test_limits_that_do_not_go_together_get_pools_of_their_own(tmp_path: Path, one: str, two: str, apart: bool) -> None:
    wanted = [
        named(name, needs(settings=f"[settings.required]\n{text}\n"))
        for name, text in (("nightlog", one), ("platevault", two))
    ]
    made = plan(wanted, survey(DirectoryHost(small_root(tmp_path), "mizar")), today=TODAY)
    assert made.complete
    assert bool(made.pools) is apart
    assert len({judgement.target.runtime.label for judgement in made.after}) == 1 + apart
    if apart:
        assert made.decision
        assert made.decision.conflict
        assert made.pools[0].file in {file.path for file in made.files}
