"""Version constraints of a manifest."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.model.constraints import as_range, common, constraint, intervals, version_range
from fundamentum.model.needs_value import NotUnderstood

CASES = [  # as a manifest writes it, as a needs file does
    ("^7.4 || ^8.0", ">=7.4, <9"),
    ("^7.4|^8.1", ">=7.4, <8 | >=8.1, <9"),
    ("~8.1.2", ">=8.1.2, <8.2"),
    ("~8.1", ">=8.1, <9"),
    ("~7", ">=7.0, <8"),
    (">=7.2.5", ">=7.2.5"),
    (">= 7.3 , != 8.0.0", ">=7.3, <8 | >8.0.0"),
    (">=5.6,<8.0|^8.2", ">=5.6, <8 | >=8.2, <9"),
    (">=8.1 <8.5.0", ">=8.1, <8.5"),
    (">8.1", ">8.1.0"),
    ("<=8.2", "<=8.2.0"),
    ("8.1.*", ">=8.1, <8.2"),
    ("8.x", ">=8.0, <9"),
    ("v8.1", "=8.1.0"),
    ("7.4 - 8.2", ">=7.4, <8.3"),
    ("7.4.1 - 8.2.0", ">=7.4.1, <=8.2.0"),
    ("^0.3", ">=0.3, <0.4"),
    ("^8.1@dev", ">=8.1, <9"),
    (">=7.4.0-dev", ">=7.4"),
    ("~8.1.0 || ~8.2.0 || ~8.3.0", ">=8.1, <8.4"),
    ("*", "any"),
    ("", "any"),
    ("dev-main", "any"),
]


@pytest.mark.parametrize(("written", "meant"), CASES)
def test_a_constraint_becomes_a_range(written: str, meant: str) -> None:
    assert str(constraint(written)) == meant


@pytest.mark.parametrize(
    "written", ["eight", ">=", "8.1 and 8.2", "^8.1,,<x", ">=8.1 =>", "9" * 600, "^8.0 <7.4", "8 - 7"]
)
def test_what_is_no_constraint_is_said_to_be_none(written: str) -> None:
    with pytest.raises(NotUnderstood):
        constraint(written)


VERSIONS = st.tuples(st.integers(5, 9), st.integers(0, 5), st.integers(0, 40)).map(lambda v: ".".join(map(str, v)))
ONE = st.builds(lambda operator, v: operator + v, st.sampled_from(["^", "~", ">=", "<", "<=", ">", "!=", ""]), VERSIONS)
TEXTS = st.lists(st.lists(ONE, min_size=1, max_size=2).map(" ".join), min_size=1, max_size=3).map(" || ".join)


@given(TEXTS, TEXTS, VERSIONS)
def test_ranges_accept_what_their_constraint_does_and_their_union_and_overlap(one: str, two: str, version: str) -> None:
    first, second = intervals(one), intervals(two)
    both = common(first, second)
    inside = [
        bool(part) and as_range(part).accepts(version) for part in (first, second, both, intervals(f"{one}||{two}"))
    ]
    assert inside[2] == (inside[0] and inside[1])
    assert inside[3] == (inside[0] or inside[1])


@given(TEXTS, VERSIONS)
def test_a_range_written_into_a_needs_file_reads_back_the_same(text: str, version: str) -> None:
    if found := intervals(text):
        accepted = as_range(found)
        assert not accepted.alternatives or version_range(str(accepted)).accepts(version) == accepted.accepts(version)
