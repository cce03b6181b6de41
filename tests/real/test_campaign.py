"""A few of the random servers of the campaign; all of them with ``make campaign``."""

import os

import pytest

from .campaign import case_of, killed, tried

pytestmark = pytest.mark.real
PORT = int(os.environ.get("CAMPAIGN_PORT", "8170"))
SEEDS = range(int(os.environ.get("CAMPAIGN_FIRST", "1")), int(os.environ.get("CAMPAIGN_LAST", "8")) + 1)


@pytest.mark.parametrize("seed", SEEDS)
def test_what_is_promised_for_a_server_is_kept(seed: int) -> None:
    case = case_of(seed)
    print(f"{seed}: {case.release}, {case.kind}, {', '.join(case.states)}: {tried(case, PORT)}; {killed(case, PORT)}")
