"""Programs that are run at set times: lines of cron, and timers of systemd, that name what was asked for."""

import posixpath
import re
from collections.abc import Iterator, Sequence
from typing import Final

from fundamentum.catalog.cron import interval
from fundamentum.catalog.timers import timer_interval
from fundamentum.hosts.base import Host, HostError, listed, text_of, text_or_none
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import Origin
from fundamentum.model.remark import Remark
from fundamentum.model.surrounding_facts import Scheduled

SYSTEM: Final = ("/etc/crontab",)
FOLDER: Final = "/etc/cron.d"
SPOOLS: Final = ("/var/spool/cron/crontabs", "/var/spool/cron")
PERIODIC: Final = {"hourly": 3600, "daily": 86400, "weekly": 604800, "monthly": 2678400}
UNITS: Final = "/etc/systemd/system"
MAX_LINES: Final = 20_000
_SHORT: Final = {
    "@hourly": 3600,
    "@daily": 86400,
    "@midnight": 86400,
    "@weekly": 604800,
    "@monthly": 2678400,
    "@yearly": 31622400,
    "@annually": 31622400,
}
_WORD: Final = lazy_regex(r"[^\s;&|()'\"=]+")
_PHP: Final = lazy_regex(r"php(?:-cli|-?[0-9][0-9.]*)?")


def probe(host: Host, commands: Sequence[str]) -> tuple[tuple[Scheduled, ...], list[Remark]]:
    """The lines that name one of these, what could not be read beside.  Source: crontab(5), systemd.timer(5)."""
    if not commands:
        return (), []
    remarks: list[Remark] = []
    tasks = [*_cron(host, commands, remarks), *_timers(host, commands)]
    return tuple(tasks), remarks


def _cron(host: Host, commands: Sequence[str], remarks: list[Remark]) -> Iterator[Scheduled]:
    own = [f"{FOLDER}/{name}" for name in listed(host, FOLDER) if "." not in name]
    files: list[tuple[str, str | None]] = [(path, None) for path in (*SYSTEM, *own)]
    for spool in SPOOLS:
        try:
            names = host.names(spool)
        except HostError as error:
            remarks.append(Remark("scheduled tasks", f"{error}: what users run at set times is unknown"))
            continue
        files += [(f"{spool}/{name}", name) for name in names]
    for path, user in files:
        try:
            about = host.stat(path)
            text = text_of(host, path) if about and not about.is_directory else None
        except HostError as error:
            remarks.append(Remark("scheduled tasks", f"{error}: what is run there is unknown"))
            continue
        for number, line in enumerate((text or "").splitlines()[:MAX_LINES], 1):
            for command in commands:
                if command in line and not line.lstrip().startswith("#"):
                    yield Scheduled(command, Origin(path, number), *_read(line, user), *_run(host, line, command))
    for name, every in PERIODIC.items():
        for script in listed(host, f"/etc/cron.{name}"):
            text = text_or_none(host, f"/etc/cron.{name}/{script}") or ""
            lines = [line for line in text.splitlines() if not line.lstrip().startswith("#")]
            for command in commands:
                if line := next((line for line in lines if command in line), ""):
                    origin = Origin(f"/etc/cron.{name}/{script}")
                    yield Scheduled(command, origin, "root", every, *_run(host, line, command))


def _run(host: Host, line: str, command: str, folder: str = "") -> tuple[str, str]:
    """The file that a line runs, and the PHP it names in front of it; both empty where the line does not tell.

    ``folder`` is where it is run, unless the line itself goes elsewhere.
    """
    words = _WORD.findall(line)
    at = next((n for n, word in enumerate(words) if word == command or word.endswith(f"/{command}")), None)
    if at is None:
        return "", ""
    gone = next((to for word, to in zip(words[:at][::-1][1:], words[:at][::-1], strict=False) if word == "cd"), folder)
    path = posixpath.normpath(posixpath.join(gone, words[at]))
    program = next((word for word in words[:at][::-1] if _PHP.fullmatch(posixpath.basename(word))), "")
    return (host.resolve(path) or path) if path.startswith("/") else "", program


def _read(line: str, user: str | None) -> tuple[str, int | None]:
    """Whose a line is, and how often it comes."""
    words = line.split()
    if words and words[0].startswith("@"):
        return user or (words[1] if len(words) > 1 else ""), _SHORT.get(words[0].lower())
    if len(words) < 6:
        return user or "", None
    return user or words[5], interval(words[:5])


def _timers(host: Host, commands: Sequence[str]) -> Iterator[Scheduled]:
    for name in listed(host, UNITS):
        if not name.endswith(".timer"):
            continue
        timer = text_or_none(host, f"{UNITS}/{name}") or ""
        unit = re.search(r"^[ \t]*Unit[ \t]*=[ \t]*(\S+)", timer, re.M)
        service = text_or_none(host, f"{UNITS}/{unit[1] if unit else name.removesuffix('.timer') + '.service'}") or ""
        runs = [line for line in service.splitlines() if line.lstrip().startswith("ExecStart")]
        user = re.search(r"^[ \t]*User[ \t]*=[ \t]*(\S+)", service, re.M)
        folder = re.search(r"^[ \t]*WorkingDirectory[ \t]*=[ \t]*(\S+)", service, re.M)
        for command in commands:
            if line := next((line for line in runs if command in line), ""):
                run = _run(host, line, command, folder[1] if folder else "")
                yield Scheduled(
                    command, Origin(f"{UNITS}/{name}"), user[1] if user else "root", timer_interval(timer), *run
                )
