"""Standard output whose reader may go away: what is left to say goes nowhere, and the exit code still tells."""

import os
import sys
from typing import IO


def nobody_reads() -> None:
    """Let all that is still written to standard output go nowhere."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def write_out(text: str, stream: IO[str] | None = None) -> None:
    """Write to standard output, or another stream, as long as somebody reads it."""
    try:
        (stream or sys.stdout).write(text)
    except BrokenPipeError:
        nobody_reads()
