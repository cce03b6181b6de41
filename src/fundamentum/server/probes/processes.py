"""Running service processes and when they started, from ``/proc``."""

import os
import re
import time
from pathlib import Path
from typing import Final

import msgspec

_MASTER: Final = re.compile(r"php-fpm: master process \((?P<file>[^)]*)\)")


class Process(msgspec.Struct, frozen=True):
    """One service's main process."""

    service: str
    started: float
    """Seconds since 1970."""


def probe(root: Path) -> list[Process]:
    """Main processes of FPM and Apache that run inside this root.  Source: proc(5)."""
    found: dict[str, Process] = {}
    try:
        uptime = float(Path("/proc/uptime").read_text().split()[0])
        numbers = [name for name in os.listdir("/proc") if name.isdigit()]
        ours = os.path.realpath(root)
    except (OSError, ValueError):
        return []
    boot, ticks = time.time() - uptime, os.sysconf("SC_CLK_TCK")
    for number in numbers:
        try:
            command = (
                Path(f"/proc/{number}/cmdline").read_bytes().replace(b"\0", b" ").decode("utf-8", "replace").strip()
            )
            service = _service(command)
            if service is None or os.path.realpath(f"/proc/{number}/root") != ours:
                continue
            fields = Path(f"/proc/{number}/stat").read_text().rpartition(")")[2].split()
            started = boot + int(fields[19]) / ticks
        except (OSError, ValueError, IndexError):
            continue  # the process ended, or is not ours to see
        if service not in found or started < found[service].started:
            found[service] = Process(service, started)
    return list(found.values())


def _service(command: str) -> str | None:
    if match := _MASTER.search(command):
        branch = re.search(r"/php/(\d+\.\d+)/fpm/", match["file"])
        return f"php{branch[1]}-fpm" if branch else None
    return "apache2" if re.match(r"(/usr/sbin/)?apache2( |$)", command) else None
