"""Numbers and switches as PHP reads them.  The same table is put to the real PHP in tests/real."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.catalog.quantity import quantity, spelled, switch
from tests.tables import QUANTITIES


@pytest.mark.parametrize(("text", "number"), QUANTITIES)
def test_quantity(text: str, number: int) -> None:
    assert quantity(text).number == number


@pytest.mark.parametrize("text", ["200MB", "1.5G", "on", "2T", "12abcM"])
def test_odd_ways_of_writing_are_called_out(text: str) -> None:
    assert text in (quantity(text).oddity or "")


@pytest.mark.parametrize("text", ["128M", "200", "-1", " 12 M ", "0x1F"])
def test_plain_ways_are_not(text: str) -> None:
    assert quantity(text).oddity is None


@given(st.integers(min_value=0, max_value=2**40))
def test_spelled_reads_back(number: int) -> None:
    assert quantity(spelled(number)).number == number


def test_more_than_sixty_four_bits_wrap_around() -> None:
    assert quantity("17179869185G").number == 2**30
    assert quantity("9223372036854775808").number == -(2**63)


@given(st.text(max_size=30))
def test_any_text_is_some_number(text: str) -> None:
    assert -(2**63) <= quantity(text).number < 2**63


@pytest.mark.parametrize(
    ("text", "on"),
    [
        ("1", True),
        ("On", True),
        ("yes", True),
        ("TRUE", True),
        ("2", True),
        ("-1", True),
        ("0", False),
        ("", False),
        ("off", False),
        ("x", False),
    ],
)
def test_switch(text: str, on: bool) -> None:
    assert switch(text) is on
