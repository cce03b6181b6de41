"""Lines for standard error."""

import sys
from collections.abc import Iterable


def one_line(text: str) -> str:
    """Text of others on one line, with nothing in it that could steer a terminal."""
    return "".join(c if c.isprintable() else "?" for c in " ".join(text.split("\n")))


def write_remarks(lines: Iterable[str]) -> None:
    """What was passed over or is contradictory."""
    for line in lines:
        sys.stderr.write(one_line(f"remark: {line}") + "\n")
