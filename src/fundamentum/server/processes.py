"""Running server processes, from ``/proc``: which, and since when."""

import os
import re
from pathlib import Path
from typing import Final

from fundamentum.server.hosts import Process, Running

SERVERS: Final = re.compile(r"php-fpm: master process \([^)]*\)|(?:/usr/s?bin/)?(?:apache2|httpd)(?= |$)|nginx: master")
"""Command lines that matter here, as far as they matter: what follows may hold anything, a password too."""


def running(root: Path) -> Running:
    """The server processes that run inside this root.  Source: proc(5)."""
    found: dict[str, float] = {}
    hidden = False
    try:
        boot = int(re.findall(r"^btime (\d+)", Path("/proc/stat").read_text(), re.M)[0])
        numbers = [name for name in os.listdir("/proc") if name.isdigit()]
        ours = os.path.realpath(root)
        ticks = os.sysconf("SC_CLK_TCK")
    except (OSError, ValueError, IndexError):
        return Running()
    for number in numbers:
        try:
            command = Path(f"/proc/{number}/cmdline").read_bytes()[:300].replace(b"\0", b" ").decode("utf-8", "replace")
            title = SERVERS.match(command)
            if title is None:
                continue
            try:
                if os.path.realpath(f"/proc/{number}/root", strict=True) != ours:
                    continue
            except PermissionError:
                hidden = True
                continue
            fields = Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()
            started = boot + round(int(fields[19]) / ticks, 2)
        except (OSError, ValueError, IndexError):
            continue  # the process ended, or is not ours to see
        found[title[0]] = min(started, found.get(title[0], started))
    return Running(tuple(Process(title, started) for title, started in sorted(found.items())), hidden)


def started(processes: tuple[Process, ...], sapi: str, fpm_config: str | None) -> float | None:
    """When the process that runs this PHP started; None if none is seen."""
    titles = [f"php-fpm: master process ({fpm_config})"] if sapi == "fpm" else []
    if sapi == "apache2":
        titles = [one.title for one in processes if one.title.rpartition("/")[2] in ("apache2", "httpd")]
    return min((one.started for one in processes if one.title in titles), default=None)
