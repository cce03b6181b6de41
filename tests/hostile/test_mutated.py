"""Input mutated at random: nothing is executed, nothing steers a terminal, and the exit code never lies."""

import os
import random
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.examples import examples
from tests.hostile.attacks import attack

EXAMPLES = int(os.environ.get("FUNDAMENTUM_ATTACKS", examples(150)))


@settings(max_examples=EXAMPLES, deadline=None, suppress_health_check=list(HealthCheck))
@given(rng=st.randoms(use_true_random=False))
def test_whatever_is_read(
    rng: random.Random, tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder: Path = tmp_path_factory.getbasetemp() / "attack"
    monkeypatch.setenv("XDG_CACHE_HOME", str(folder.with_name("cache")))
    attack(rng, folder)
