"""What surrounds PHP: the machine, directories, programs, tasks; what applications ask about, and what is exposed."""

import posixpath
import re
from collections.abc import Callable, Sequence
from typing import Final, TypedDict

from msgspec.structs import replace

from fundamentum.hosts.base import Host, text_or_none
from fundamentum.hosts.programs import path_of
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.application_paths import candidates
from fundamentum.model.packages import Packages
from fundamentum.model.php import PREPENDED, Runtime
from fundamentum.model.remark import Remark
from fundamentum.model.surrounding_facts import Account, Asked, Command, Exposed, Machine, Place, Scheduled, Visit
from fundamentum.model.survey import Site
from fundamentum.platforms import names, platform
from fundamentum.survey.probes import exposed_files, file_permissions, program_paths, scheduled_tasks
from fundamentum.webservers import body_folders

ZONES: Final = "/usr/share/zoneinfo/"
MAX_PREPENDED: Final = 1000
_ZONE: Final = lazy_regex(r"[A-Za-z0-9_+-]+(?:/[A-Za-z0-9_+-]+)*")


class Beside(TypedDict):
    """The part of a survey that this module fills."""

    machine: Machine
    accounts: tuple[Account, ...]
    groups: dict[str, int]
    places: tuple[Place, ...]
    commands: tuple[Command, ...]
    tasks: tuple[Scheduled, ...]
    exposed: tuple[Exposed, ...]


def probe(
    host: Host,
    asked: Asked | None,
    runtimes: Sequence[Runtime],
    served: Sequence[Site],
    packages: Packages,
    visits: Sequence[tuple[str, Callable[[str], Visit]]] = (),
) -> tuple[Beside, list[Remark]]:
    """All of it; where rights are those of names, directories alone.  ``visits``: what comes of addresses, by root."""
    wanted = _looked_for(host, asked or Asked(), served)
    roots = sorted({site.root for site in served if site.root and site.root.startswith("/")})
    if host.windows:
        asked_for = [path for directory in wanted.directories for path in candidates(directory, served)]
        places = file_permissions.probe_named(host, (path for path in asked_for if path.startswith("/")))
        return Beside(machine=Machine(), accounts=(), groups={}, places=places, commands=(), tasks=(), exposed=()), []
    commands = program_paths.probe(host, wanted.commands, packages)
    paths = [path for path in (command.path for command in commands) if path]
    paths += [path for directory in wanted.directories for path in candidates(directory, served)]
    paths += [folder for runtime in runtimes for folder in runtime.upload_folders] if asked else []
    paths += body_folders(served) if asked else []
    waiting = {
        runtime.listen for runtime in runtimes if runtime.started is not None and (runtime.listen or "").startswith("/")
    }
    paths += [path for path in waiting if path]
    paths += [path for root in roots for path in (root, f"{root.rstrip('/')}/index.php")]
    paths += _prepended(runtimes, served) if host.whole else []
    paths += [posixpath.dirname(root) for root in roots] if asked else []
    scheduled, remarks = scheduled_tasks.probe(host, wanted.tasks)
    users = {runtime.user for runtime in runtimes if runtime.user} | {site.user for site in served if site.user}
    users |= {user for name in names() if (user := platform(name).php_user)} if asked or served else set()
    groups = {runtime.group for runtime in runtimes if runtime.group} | {site.group for site in served if site.group}
    surroundings = Beside(
        machine=_machine(host),
        accounts=file_permissions.accounts(host, users),
        groups=file_permissions.groups(host, groups),
        places=file_permissions.probe(host, (path for path in paths if path.startswith("/"))),
        commands=commands,
        tasks=scheduled,
        exposed=exposed_files.probe(host, roots, visits),
    )
    return surroundings, remarks


def _prepended(runtimes: Sequence[Runtime], served: Sequence[Site]) -> list[str]:
    """The files that PHP may be told to run before each script; those without a path as they lie in document roots."""
    values = {setting.value for runtime in runtimes if (setting := runtime.settings.get(PREPENDED))}
    values |= {
        value.value for site in served for layer in site.layers for value in layer.values if value.name == PREPENDED
    }
    folders: list[str] = []
    for value in sorted(filter(None, values)):
        roots = [""] if value.startswith("/") else [f"{site.root.rstrip('/')}/" for site in served if site.root]
        folders += [f"{root}{value}" for root in roots]
    return folders[:MAX_PREPENDED]


def _machine(host: Host) -> Machine:
    """The machine; where enforcement does not run, what is configured of it.  Source: selinux_config(5)."""
    machine = replace(host.machine(), zone=_zone(host))
    wanted = re.search(r"^[ \t]*SELINUX[ \t]*=[ \t]*(\w+)", text_or_none(host, "/etc/selinux/config") or "", re.M)
    if machine.enforcing is not None or wanted is None:
        return machine
    enforcing = wanted[1].lower() == "enforcing"
    return replace(machine, enforcing=enforcing, permissive=not enforcing)


def _zone(host: Host) -> str:
    """The name of the time zone.  Source: localtime(5)."""
    real = host.resolve("/etc/localtime") or ""
    name = real.partition(ZONES)[2]
    text = (text_or_none(host, "/etc/timezone") or "").strip() or name
    return text if _ZONE.fullmatch(text) else ""


def _looked_for(host: Host, wanted: Asked, served: Sequence[Site]) -> Asked:
    """What can be told: what a recorder was not asked about, and did not see either, may be there all the same."""
    known = host.asked
    if known is None:
        return wanted
    commands = (command for command in wanted.commands if command in known.commands or path_of(host, command))
    directories = (
        directory
        for directory in wanted.directories
        if directory in known.directories or any(host.resolve(path) for path in candidates(directory, served))
    )
    return replace(wanted, commands=tuple(commands), directories=tuple(directories))
