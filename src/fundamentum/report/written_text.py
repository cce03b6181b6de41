"""Text that is written to a stream as long as somebody reads it."""

import sys
from typing import IO

from fundamentum.report.broken_pipe import nobody_reads


def write_out(text: str, stream: IO[str] | None = None) -> None:
    """Write to standard output, or another stream, as long as somebody reads it."""
    try:
        (stream or sys.stdout).write(text)
    except BrokenPipeError:
        nobody_reads()
