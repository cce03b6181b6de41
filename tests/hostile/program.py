"""The installed program, run as a user runs it, with what it took of time and memory."""

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

PROGRAM = Path(sys.executable).with_name("fundamentum")
MAX_MEMORY = 400 * 1024
"""KiB."""
MAX_SECONDS = 30

LAUNCHER = """
import os, sys
child = os.fork()
if not child:
    os.execv(sys.argv[2], sys.argv[2:])
_, status, used = os.wait4(child, 0)
open(sys.argv[1], "w").write(f"{os.waitstatus_to_exitcode(status)} {used.ru_maxrss}")
"""
"""A small process in between: what one has in memory when it begins another counts for the other too."""


class Ran(NamedTuple):
    """How a run ended."""

    code: int
    out: str
    err: str
    seconds: float
    memory: int
    """The most that one of its processes had in memory, in KiB."""


def run(*words: str | Path, environment: Mapping[str, str] | None = None, **options: Any) -> Ran:
    """Run it to its end, which has to come in time, within memory, and without a traceback."""
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err, tempfile.TemporaryDirectory() as cache:
        started = time.monotonic()
        variables = {**os.environ, "XDG_CACHE_HOME": cache, **(environment or {})}
        figures = Path(cache, "figures")
        command = [sys.executable, "-c", LAUNCHER, str(figures), str(PROGRAM), *map(str, words)]
        subprocess.run(
            command, stdout=out, stderr=err, env=variables, check=False, **{"stdin": subprocess.DEVNULL, **options}
        )
        seconds = time.monotonic() - started
        code, memory = map(int, figures.read_text().split())
        out.seek(0)
        err.seek(0)
        ran = Ran(code, out.read().decode(errors="replace"), err.read().decode(errors="replace"), seconds, memory)
    assert "Traceback" not in ran.err, ran.err[-2000:]
    assert ran.code in (0, 1, 2, 130), (ran.code, ran.err[-500:])
    assert ran.seconds < MAX_SECONDS, f"{ran.seconds:.0f} s"
    assert ran.memory < MAX_MEMORY, f"{ran.memory >> 10} MiB"
    return ran
