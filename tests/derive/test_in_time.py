"""An application that takes longer than there is time: what is told by then, and that nothing is waited for."""

import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from fundamentum.cli.derivation import derived
from fundamentum.derive.application.listing import Listing
from fundamentum.derive.derive import derive, derive_listed
from fundamentum.derive.needs_file import as_needs
from fundamentum.derive.reading import scan
from fundamentum.derive.reading.scan import Progress
from fundamentum.derive.reading.workers import SMALL, Workers
from fundamentum.derive.result import Derived
from fundamentum.kinds.unread import UnreadNeed
from fundamentum.needs.file import parse


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
    unread = [need.text for need in as_needs(told).of(UnreadNeed)]
    assert unread == ["reading stopped after more than 0 seconds of reading"] * (not patience)


def in_no_time(listing: Listing, progress: Progress) -> Derived:
    return derive_listed(listing, progress, patience=0.0)


def test_what_was_not_read_as_a_whole_is_read_again_for_whoever_gives_it_more_time(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "kept"))
    (tmp_path / "nightlog").mkdir()
    (tmp_path / "nightlog/index.php").write_text("<?php imagecreate(1, 1);")
    with monkeypatch.context() as patched:
        patched.setattr("fundamentum.derive.derive.derive_listed", in_no_time)
        derived(tmp_path / "nightlog")
    told = [derived(tmp_path / "nightlog", seconds=seconds).text for seconds in (None, 20.0, None)]
    assert ["[unread]" in text for text in told] == [True, False, False]
    assert ["gd" in text for text in told] == [False, True, True]


def test_what_nobody_may_read_is_said_and_not_remembered(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "kept"))
    root = tmp_path / "nightlog"
    root.mkdir()
    for name in ("index", "config", "plates"):
        (root / f"{name}.php").write_text("<?php imagecreate(1, 1);")
    with monkeypatch.context() as patched:
        patched.setattr(scan, "contents", lambda path, size: b"<?php a();" if path == "index.php" else None)
        answer = derived(root)
    assert "config.php cannot be read: passed over" in answer.remarks
    assert [need.text for need in parse(answer.text, "f").of(UnreadNeed)] == ["config.php and 1 more cannot be read"]
    assert [place.path for place in answer.derived().of_kind("unread")[0].places] == ["config.php", "plates.php"]
    assert "[unread]" not in derived(root).text


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
