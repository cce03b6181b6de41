"""Running server processes, from ``/proc``: which, and since when."""

import math
import os
import re
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Final

import msgspec

MANAGER: Final = "php-fpm: master process( [(][^)]*[)])?"
"""How the command line of PHP's process manager begins: an extended regular expression.  It names its main file."""
VARIABLES: Final = ("PHPRC", "PHP_INI_SCAN_DIR")
"""The environment variables that decide which files PHP reads; beside them only those asked for are looked at."""
MAX_ENVIRONMENT: Final = 128 * 1024
DELETED: Final = " (deleted)"
"""What the kernel adds to the program of a process once the file was replaced."""


class Process(msgspec.Struct, frozen=True):
    """One running server process: its program, the beginning of its command line, and when it started.

    ``started`` is in hundredths of seconds since 1970, two of which it may be off: the kernel counts in such from when
    it booted.
    """

    title: str
    started: float
    program: str = ""
    variables: tuple[tuple[str, str], ...] | None = None
    """Those that are wanted of it; None where its environment cannot be seen."""


class Running(msgspec.Struct, frozen=True):
    """The server processes that can be seen, and whether there are others of which too little can be seen."""

    processes: tuple[Process, ...] = ()
    hidden: bool = False


def running(root: Path, beginnings: Sequence[str], names: Sequence[str] = VARIABLES) -> Running:
    """The processes that run inside this root and whose command line begins in one of these ways.  Source: proc(5).

    Each is an extended regular expression; ``names`` are the variables that are wanted of them.  What follows in a
    command line may hold anything, a password too.
    """
    wanted = re.compile(rf"(?:{'|'.join(beginnings)})(?= |$)")
    oldest: dict[tuple[str, str], float] = {}
    variables: dict[tuple[str, str], tuple[tuple[str, str], ...] | None] = {}
    hidden = False
    try:
        boot = time.time() - time.clock_gettime(time.CLOCK_BOOTTIME)  # "btime" in /proc/stat has whole seconds only
        numbers = [name for name in os.listdir("/proc") if name.isdigit()]
        ours = os.path.realpath(root)
        ticks = os.sysconf("SC_CLK_TCK")
    except (OSError, ValueError, IndexError, AttributeError):
        return Running()
    for number in numbers:
        try:
            command = Path(f"/proc/{number}/cmdline").read_bytes()[:300].replace(b"\0", b" ").decode("utf-8", "replace")
            title = wanted.match(command)
            if title is None:
                continue
            try:
                if os.path.realpath(f"/proc/{number}/root", strict=True) != ours:
                    continue
            except PermissionError:
                hidden = True
                continue
            program = "/" + os.readlink(f"/proc/{number}/exe").removesuffix(DELETED).removeprefix(ours).lstrip("/")
            fields = Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()
            started = round(boot + int(fields[19]) / ticks, 2)
        except (OSError, ValueError, IndexError):
            continue  # the process ended, or is not ours to see
        key = (title[0], program)
        if started < oldest.get(key, math.inf):
            variables[key] = _variables(number, names)
        oldest[key] = min(started, oldest.get(key, started))
    return seen(oldest, hidden, variables)


def _variables(number: str, names: Sequence[str]) -> tuple[tuple[str, str], ...] | None:
    """Those of a process that are wanted.  A process that overwrites its own says nothing of them."""
    try:
        environment = Path(f"/proc/{number}/environ").read_bytes()[:MAX_ENVIRONMENT]
    except OSError:
        return None
    return variables_in(environment.split(b"\0"), names)


def variables_in(lines: Sequence[bytes], names: Sequence[str]) -> tuple[tuple[str, str], ...] | None:
    """Those of these names among ``NAME=value`` lines; None if these are no such lines, or there are none."""
    if not lines or not re.match(rb"[A-Za-z_]\w*=", lines[0]):
        return None
    pairs = (line.decode("utf-8", "replace").partition("=") for line in lines)
    return tuple(sorted((name, value[:4096]) for name, sign, value in pairs if sign and name in names))


def seen(
    oldest: dict[tuple[str, str], float],
    hidden: bool,
    variables: Mapping[tuple[str, str], tuple[tuple[str, str], ...] | None],
) -> Running:
    """Processes by title and program, in order."""
    rows = sorted(oldest.items())
    return Running(tuple(Process(key[0], at, key[1], variables.get(key)) for key, at in rows), hidden)


def started(processes: tuple[Process, ...], beginning: str, program: str | None = None) -> float | None:
    """When the process started whose command line begins so; None if none is seen.

    ``program`` is the real path of its program, where that counts.
    """
    wanted = re.compile(beginning)
    matching = (process for process in processes if program in (None, process.program))
    return min((process.started for process in matching if wanted.fullmatch(process.title)), default=None)
