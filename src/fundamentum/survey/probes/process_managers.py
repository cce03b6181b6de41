"""Process managers of a branch beside the packaged one: by their units, and by what runs."""

import posixpath
from collections.abc import Iterable, Iterator
from typing import Final

from msgspec.structs import replace

from fundamentum.hosts.base import Host, listed, text_or_none
from fundamentum.hosts.processes import Process
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.installation import Installation
from fundamentum.model.safe_text import is_plain
from fundamentum.survey.probes.start_options import FOLDERS, start_of

MAX_UNITS: Final = 5000
"""Names of units that are looked at; a system has a few hundred."""
_TITLE: Final = lazy_regex(r"php-fpm: master process \((/[^)]*)\)")


def with_masters(host: Host, programs: Iterable[Installation], running: Iterable[Process]) -> list[Installation]:
    """The installations, each process manager followed by others that run the same program with files of their own."""
    programs, running = list(programs), list(running)
    services = _services(host) if any(program.sapi == "fpm" for program in programs) else {}
    installations = []
    for program in programs:
        installations.append(program)
        if program.sapi == "fpm":
            installations += _others(host, program, services, running)
    return installations


def _others(
    host: Host, installation: Installation, services: dict[str, str], running: list[Process]
) -> Iterator[Installation]:
    main = start_of(host, installation).fpm_config or installation.fpm_config
    configs = {host.resolve(main or "") or main}
    for name, text in services.items():
        if name == installation.service or posixpath.basename(installation.program) not in text:
            continue
        other = replace(installation, service=name, master=name, defaults=())
        start = start_of(host, other)
        config = start.fpm_config or installation.fpm_config
        if (host.resolve(config or "") or config) not in configs and start.unsure is None:
            configs.add(host.resolve(config or "") or config)
            yield replace(other, fpm_config=config)
    program = host.resolve(installation.program) or installation.program
    for process in running:
        title = _TITLE.fullmatch(process.title)
        if title and process.program == program and (host.resolve(title[1]) or title[1]) not in configs:
            configs.add(host.resolve(title[1]) or title[1])
            master = posixpath.basename(posixpath.dirname(title[1])) or "other"
            yield replace(installation, service=None, master=master, fpm_config=title[1], defaults=())


def _services(host: Host) -> dict[str, str]:
    """The units of services that speak of PHP's process manager, each by its first file on the way."""
    services: dict[str, str] = {}
    for folder in dict.fromkeys(host.resolve(folder) or folder for folder in FOLDERS):  # one may be a link to another
        for file in listed(host, folder)[:MAX_UNITS]:
            name = file.removesuffix(".service")
            if file == name or "@" in name or not is_plain(name) or name in services:
                continue
            if "fpm" in (text := text_or_none(host, f"{folder}/{file}") or ""):
                services[name] = text
    return services
