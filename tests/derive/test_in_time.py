"""An application that takes longer than there is time: what is told by then, and that nothing is waited for."""

import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from fundamentum.derive.derive import derive
from fundamentum.derive.reading.workers import SMALL, Workers


def slow(number: int) -> int:
    time.sleep(0.2)
    return number


@pytest.mark.parametrize("size", [0, SMALL + 1])
def test_work_of_which_nothing_was_begun_in_time_has_no_results(size: int) -> None:
    with Workers(size) as workers:
        assert list(workers.map(abs, [-1, 2, -3], time.monotonic() + 60)) == [1, 2, 3]
        assert list(workers.map(abs, [-1, 2, -3], time.monotonic())) == []
        started = time.monotonic()
        told = list(workers.map(slow, range(40), started + 0.5))
        assert told == list(range(len(told))) and 1 < len(told) < 20
        assert list(workers.map(abs, [-4, 5], started + 60)) == [4, 5]
        assert time.monotonic() - started < 4


@pytest.mark.parametrize("patience", [0.0, 20.0])
def test_what_was_not_looked_at_in_time_is_said(tmp_path: Path, patience: float) -> None:
    for number in range(3):
        (tmp_path / f"{number}.php").write_text("<?php if (!extension_loaded('gd')) { die('gd is required'); }")
    told = derive(tmp_path, patience=patience)
    assert any("3 of 3 files were not looked at in time" in remark for remark in told.remarks) is not bool(patience)
    assert any("reading stopped after" in remark for remark in told.remarks) is not bool(patience)
    assert [entry.names for entry in told.entries if entry.kind == "extension"] == [("gd",)] * bool(patience)


AGAIN = """
import sys
from fundamentum.cli.main import main
try:
    main()
finally:
    print(" ".join(sorted({"fundamentum.derive.derive", "msgspec", "tempfile", "tree_sitter"} & set(sys.modules))), file=sys.stderr)
"""


def test_what_takes_long_to_begin_with_is_not_begun_for_an_application_that_is_known(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "kept"))
    (tmp_path / "nightlog").mkdir()
    (tmp_path / "nightlog/index.php").write_text("<?php if (!extension_loaded('gd')) { die('gd is required'); }")
    for path in (tmp_path / "nightlog/index.php", tmp_path / "nightlog"):
        os.utime(path, (1e9, 1e9))  # what has just changed may change again in the same moment
    command = [sys.executable, "-c", AGAIN, "derive", str(tmp_path / "nightlog"), "-o", "-"]
    first, again = (subprocess.run(command, capture_output=True, text=True, check=True) for _ in range(2))
    assert "gd" in first.stdout and again.stdout == first.stdout
    assert "fundamentum.derive.derive msgspec" in first.stderr
    assert again.stderr.split() == []
