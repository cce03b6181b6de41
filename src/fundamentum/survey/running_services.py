"""What runs: when each process last read its configuration, which files changed since, and under which environment."""

import re
from collections.abc import Iterable, Mapping, Sequence

from fundamentum.hosts import processes
from fundamentum.hosts.base import Host
from fundamentum.hosts.processes import Process, Running
from fundamentum.model.installation import Installation
from fundamentum.model.safe_text import is_path
from fundamentum.model.surrounding_facts import ServerProcess
from fundamentum.model.system import System
from fundamentum.platforms import platform
from fundamentum.webservers import webserver
from fundamentum.webservers.base import WebServerType


def web_servers(host: Host, files: Mapping[str, Sequence[str]], running: Running) -> tuple[ServerProcess, ...]:
    """The web servers whose configuration was read here, and when each of them read it itself."""
    server_processes = []
    for name, read in files.items():
        if read and webserver(name).process:
            at = _read_by(host, webserver(name), running.processes)
            server_processes.append(
                ServerProcess(name, at, tuple(path for path in changed_since(host, at, read) if is_path(path)))
            )
    return tuple(server_processes)


def _read_by(host: Host, server: WebServerType, running: tuple[Process, ...]) -> float | None:
    """When a web server last read its configuration; None if it is not seen to run."""
    at = processes.started(running, server.process)
    renewed = processes.started(running, server.worker.partition("(")[0]) if server.worker else None
    return _last_noted(host, max(at, renewed or at), server.pid_files) if at is not None else None


def _last_noted(host: Host, started: float, files: Iterable[str]) -> float:
    """When a process last read its configuration, as it then writes one of these files anew."""
    return max((started, *(about.modified for path in files if (about := host.stat(path)))))


def environment_of(program: Installation, running: tuple[Process, ...]) -> dict[str, str] | None:
    """The variables of the running web server that this PHP is a module of; None where they cannot be seen."""
    beginning = webserver(program.sapi).process if program.sapi not in ("fpm", "cli", "cgi") else ""
    seen = [
        process
        for process in running
        if beginning and re.fullmatch(beginning, process.title) and process.variables is not None
    ]
    oldest = min(seen, key=lambda process: process.started, default=None)
    return dict(oldest.variables or ()) if oldest else None


def last_read(host: Host, about: System, program: Installation, running: tuple[Process, ...]) -> float | None:
    """When the process that runs this PHP last read its configuration: its own, or that of the web server it is in."""
    if program.sapi == "fpm":
        manager = "php-fpm: master process"
        titles = [manager] if not program.master else []
        titles += [
            f"{manager} ({path})" for path in (program.fpm_config, host.resolve(program.fpm_config or "")) if path
        ]
        beginning = "|".join(map(re.escape, titles))
        at = processes.started(running, beginning, host.resolve(program.program) or program.program)
        noted = [platform(about.family).service_check(program.service)[0]] if program.service else []
        return _last_noted(host, at, noted) if at is not None else None
    server = webserver(program.sapi)
    return _read_by(host, server, running) if server.process else None


def changed_since(host: Host, started: float | None, paths: Iterable[str]) -> tuple[str, ...]:
    if started is None:
        return ()
    services = []
    for path in dict.fromkeys(paths):
        at = host.changed(path)
        if at is not None and at > started:
            services.append(path)
    return tuple(services)
