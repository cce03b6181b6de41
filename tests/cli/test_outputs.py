"""Every word that the commands print about the shipped example: what changes them changes a file beside this one."""

import os
import sys

import pytest

from tests.cli import outputs_kept


@pytest.mark.parametrize("name", outputs_kept.OUTPUTS)
def test_the_output_is_the_one_that_was_read_and_found_good(name: str) -> None:
    if name.startswith("help") and sys.version_info[:2] != (3, 11):
        pytest.skip("the standard library lays help out otherwise")
    if name.startswith("full") and os.geteuid() != 0:
        pytest.skip("needs root: the files of that server are root's")
    kept = (outputs_kept.FOLDER / f"{name}.txt").read_bytes().decode()
    assert outputs_kept.output(name) == kept, "read the difference, then python -m tests.cli.outputs_kept"


def test_there_is_a_file_for_each_command_and_no_other() -> None:
    assert {path.stem for path in outputs_kept.FOLDER.iterdir()} == set(outputs_kept.OUTPUTS)
