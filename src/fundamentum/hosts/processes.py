"""Running server processes, from ``/proc``: which, and since when."""

import os
import re
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Final

import msgspec

MANAGER: Final = "php-fpm: master process"
"""How the command line of PHP's process manager begins."""
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


class Running(msgspec.Struct, frozen=True):
    """The server processes that can be seen, and whether there are others of which too little can be seen."""

    processes: tuple[Process, ...] = ()
    hidden: bool = False


def running(root: Path, beginnings: Sequence[str]) -> Running:
    """The processes that run inside this root and whose command line begins in one of these ways.  Source: proc(5).

    Each is an extended regular expression.  What follows in a command line may hold anything, a password too.
    """
    wanted = re.compile(rf"(?:{'|'.join(beginnings)})(?= |$)")
    found: dict[tuple[str, str], float] = {}
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
        found[key] = min(started, found.get(key, started))
    return seen(found, hidden)


def seen(found: dict[tuple[str, str], float], hidden: bool) -> Running:
    """Processes by title and program, in order."""
    return Running(tuple(Process(title, at, program) for (title, program), at in sorted(found.items())), hidden)


def started(processes: tuple[Process, ...], beginning: str, program: str | None = None) -> float | None:
    """When the process started whose command line begins so; None if none is seen.

    ``program`` is the real path of its program, where that counts.
    """
    wanted = re.compile(beginning)
    found = (one for one in processes if program in (None, one.program))
    return min((one.started for one in found if wanted.fullmatch(one.title)), default=None)
