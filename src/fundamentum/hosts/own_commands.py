"""Commands of the machine itself, whose output a survey asks for."""

import subprocess
from typing import Final

from fundamentum.hosts.base import MAX_BYTES, Question

_SECONDS: Final = 20
_PATH: Final = "/usr/sbin:/usr/bin:/sbin:/bin"


def said(question: Question) -> bytes | None:
    """What the question's command prints, whose beginning is kept; None where it fails, or is not there."""
    try:
        done = subprocess.run(
            question.command, capture_output=True, check=False, timeout=_SECONDS, env={"PATH": _PATH, "LC_ALL": "C"}
        )
    except (OSError, subprocess.SubprocessError):
        return None
    return done.stdout[:MAX_BYTES] if done.returncode == 0 or question.lenient else None
