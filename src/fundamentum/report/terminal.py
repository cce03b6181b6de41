"""What is written for a person at a terminal: its colours, its width, and a stream that nobody may read to the end."""

import os
from typing import IO, Final, cast

from rich.console import Console

from fundamentum.kinds import in_words
from fundamentum.report.broken_pipe import nobody_reads
from fundamentum.report.escape import clean

PIPE_WIDTH: Final = 2000
"""Columns where there is no terminal: so many that no path and no command is broken.  ``COLUMNS`` tells otherwise."""


class _Trimmed:
    """A stream that drops the blanks with which tables fill their last column."""

    def __init__(self, stream: IO[str]) -> None:
        self.stream = stream

    def write(self, text: str) -> int:
        return self.stream.write("\n".join(line.rstrip(" ") for line in text.split("\n")))

    def flush(self) -> None:
        self.stream.flush()


class _Patient(Console):
    """A console that lets a command come to its end, and to its exit code, when nobody reads on."""

    def on_broken_pipe(self) -> None:
        """Let the rest go nowhere."""
        self.quiet = True
        nobody_reads()


def console_for(stream: IO[str]) -> Console:
    """A console that writes colour to a terminal only, and never where ``NO_COLOR`` is set; or where it is told to."""
    terminal = stream.isatty()
    told = os.environ.get("COLUMNS", "")
    width = None if terminal else int(told) if told.isdecimal() and 20 <= int(told) <= PIPE_WIDTH else PIPE_WIDTH
    return _Patient(
        file=stream if terminal else cast(IO[str], _Trimmed(stream)),
        highlight=False,
        markup=False,
        emoji=False,
        force_terminal=terminal or bool(os.environ.get("FUNDAMENTUM_COLOR")),
        width=width,
        no_color=bool(os.environ.get("NO_COLOR")),
    )


def name_of(need: str) -> str:
    """A need in words, for a terminal."""
    return clean(in_words(need))
