"""Standard output whose reader may go away: what is left to say goes nowhere, and the exit code still tells."""

import os
import sys


def nobody_reads() -> None:
    """Let all that is still written to standard output go nowhere."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
