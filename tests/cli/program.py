"""The installed program."""

import os
import subprocess
import sys
from pathlib import Path

PROGRAM = Path(sys.executable).with_name("fundamentum")


def run(folder: Path, *arguments: str, **environment: str) -> "subprocess.CompletedProcess[str]":
    """Run it in a folder; it must end without a traceback."""
    done = subprocess.run(
        [PROGRAM, *arguments],
        cwd=folder,
        env={**os.environ, **environment},
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert "Traceback" not in done.stderr
    return done
