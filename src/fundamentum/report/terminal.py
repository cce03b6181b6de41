"""What is written for a person at a terminal: its colours, its width, and a stream that nobody may read to the end."""

import os
from typing import IO, Final, cast

from rich.console import Console

from fundamentum.kinds import in_words
from fundamentum.report.broken_pipe import nobody_reads
from fundamentum.report.escape import clean

PIPE_WIDTH: Final = 110
"""Columns where there is no terminal to ask: a file that is read later looks the same on every machine."""


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
    """A console that writes colour to a terminal only, and never where ``NO_COLOR`` is set."""
    terminal = stream.isatty()
    width = None if terminal else PIPE_WIDTH
    return _Patient(
        file=stream if terminal else cast(IO[str], _Trimmed(stream)),
        highlight=False,
        markup=False,
        emoji=False,
        force_terminal=terminal,
        width=width,
        no_color=bool(os.environ.get("NO_COLOR")),
    )


def name_of(need: str) -> str:
    """A need in words, for a terminal."""
    return clean(in_words(need))
