"""What Linux has and other systems do not: surveys, roots, recordings and applications are read without it."""

import subprocess
import sys
from pathlib import Path

import pytest

from tests.hostile.attacks import DATA
from tests.hostile.samples import RECORDED, recording
from tests.small_root import small_root

WITHOUT = """
import os, socket, sys
for name in ("getxattr", "sched_getaffinity", "O_PATH", "O_NOFOLLOW", "O_NONBLOCK", "O_CLOEXEC", "O_DIRECTORY", "statvfs", "uname", "sysconf"):
    if hasattr(os, name):
        delattr(os, name)
del socket.AF_UNIX
sys.modules["fcntl"] = sys.modules["pwd"] = sys.modules["grp"] = None
from fundamentum.cli.main import program
program()
"""


@pytest.mark.parametrize("server", ["survey", "root", "recording", "this machine"])
@pytest.mark.parametrize("command", ["check", "plan"])
def test_it_runs_where_linux_is_not(tmp_path: Path, server: str, command: str) -> None:
    (tmp_path / "x.recording.tar").write_bytes(recording(RECORDED))
    servers = {
        "survey": ["--server", str(DATA / "vega.survey.json")],
        "root": ["--server", str(small_root(tmp_path / "root"))],
        "recording": ["--server", f"{tmp_path}/x.recording.tar", "--runtime", "8.2"],
        "this machine": ["--runtime", "8.2"],
    }  # fmt: skip
    words = [sys.executable, "-c", WITHOUT, command, str(DATA / "nightlog.needs.toml"), *servers[server]]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert done.returncode in (0, 1, 2) and "Traceback" not in done.stderr, done.stderr
    assert done.stdout or server in ("recording", "this machine")


def test_deriving_too(tmp_path: Path) -> None:
    words = [sys.executable, "-c", WITHOUT, "derive", str(DATA / "platevault"), "--fresh"]
    done = subprocess.run(
        words, capture_output=True, text=True, check=False, env={"XDG_CACHE_HOME": str(tmp_path), "PATH": "/usr/bin"}
    )
    assert (done.returncode, done.stderr) == (0, "")
