"""Look at a server: ask every probe, and put what they saw together."""

import re
from collections.abc import Iterator

import msgspec
from msgspec.structs import replace

from fundamentum.catalog import facts
from fundamentum.errors import InputError
from fundamentum.server import layouts, processes, sites
from fundamentum.server.around import Asked
from fundamentum.server.fact import PLAIN
from fundamentum.server.hosts import Host, HostError
from fundamentum.server.installation import Installation
from fundamentum.server.model import Branch, Remark, Runtime, Site, Survey, System
from fundamentum.server.packages import Packages
from fundamentum.server.probes import apt, around, commands, dpkg, fpm_pools, php_config, php_modules, rpm, system
from fundamentum.server.probes.fpm_pools import Pool
from fundamentum.server.probes.php_config import Configuration
from fundamentum.server.probes.php_modules import Shelf
from fundamentum.server.processes import Process

FORMAT = 1
PHP_FOLDERS = ("/usr/lib/php", "/usr/lib64/php", "/opt/", "/usr/local/")
"""Where extension files lie; a package that owns one there is named with it."""


def survey(host: Host, asked: Asked | None = None) -> Survey:
    """Everything that matters for PHP on this server, and what is asked for beside.  Reads; changes nothing there."""
    about, remarks = system.probe(host)
    packages = _packages(host, about, asked or Asked())
    about = packages.system
    installations, more = layouts.installations(host, about)
    remarks += packages.remarks + more
    places, more = _places(host, installations, packages.owners)
    remarks += more
    running = host.running()
    if running.hidden:
        why = "servers run of which only root sees when they started: whether a restart is due is unknown"
        remarks.append(Remark("running services", why))
    runtimes: list[Runtime] = []
    for one in installations:
        found, more = _runtimes(host, one, places[one.branch, one.home], running.processes)
        runtimes += found
        remarks += more
    served, web_files, more = sites.probe(host, about, runtimes)
    remarks += more
    runtimes = [_with_server(host, runtime, web_files, served) for runtime in runtimes]
    remarks += _unsuited(served, runtimes, places)
    if any(site.runtime for site in served):
        leading = {site.runtime for site in served}
        runtimes = [replace(runtime, serves=runtime.label in leading) for runtime in runtimes]
    for path in dict.fromkeys(host.passed_over):
        remarks.append(Remark("file names", f"{path}: a file whose name is no UTF-8 text is left out"))
    beside, more = around.probe(host, asked, runtimes, served, packages)
    remarks += more
    return Survey(
        format=FORMAT,
        server=system.hostname(host),
        system=about,
        branches=tuple(place.branch for place in places.values()),
        runtimes=tuple(runtimes),
        installed=packages.installed,
        offers=packages.offers,
        repositories=tuple(packages.repositories),
        sites=served,
        remarks=tuple(dict.fromkeys(remarks)),
        asked=asked,
        **beside,
    )


def _packages(host: Host, about: System, asked: Asked) -> Packages:
    also = commands.packages_of(asked.commands, asked.products)
    also |= {"cron", "cronie"} if asked.tasks else set()
    if about.family == "debian":
        installed, remarks = dpkg.probe(host)
        bringing = commands.indexed_commands(host, asked.commands)
        also |= {package for packages in bringing.values() for package in packages}
        offers, repositories, more = apt.probe(host, about.architecture, also)
        return Packages(
            about, installed, dpkg.owners(host, PHP_FOLDERS), offers, repositories, remarks + more, bringing
        )
    if about.family == "redhat":
        from fundamentum.server.probes import dnf  # noqa: PLC0415 — needs much that other families do not

        paths = {path for name in asked.commands for path in commands.possible(host, name)}
        found = rpm.probe(host, PHP_FOLDERS, sorted(paths))
        about = replace(about, architecture=found.architecture)
        offers, repositories, more = dnf.probe(host, found.architecture, found.capabilities, also, asked.commands)
        return Packages(about, found.packages, found.owners, offers, repositories, found.remarks + more)
    why = "Windows has none that PHP comes from" if about.family == "windows" else "none that this program can read"
    remark = Remark("packages", f"package database: {why}; what is installed and what could be is unknown")
    return Packages(about, None, {}, None, [], [remark])


class Place(msgspec.Struct):
    """One branch in one place: what is known of it, and where its extension files come from."""

    branch: Branch
    shelf: Shelf


def _places(
    host: Host, installations: list[Installation], owners: dict[str, str]
) -> tuple[dict[tuple[str, str], Place], list[Remark]]:
    found: dict[tuple[str, str], Place] = {}
    remarks: list[Remark] = []
    for one in installations:
        if (one.branch, one.home) not in found:
            shelf = php_modules.shelf(host, one, facts(one.branch), owners)
            branch, more = php_modules.available(host, one.home, shelf)
            found[one.branch, one.home] = Place(branch, shelf)
            remarks += more
    return found, remarks


def _runtimes(
    host: Host, one: Installation, place: Place, running: tuple[Process, ...]
) -> tuple[list[Runtime], list[Remark]]:
    """The runtimes of one program.  Remarks that belong to none of them are returned beside."""
    configuration = php_config.probe(host, one, place.shelf.facts)
    started = processes.started(running, one.sapi, host.resolve(one.program) or one.program)
    if not one.fpm_config:
        return [_runtime(host, one, place, configuration, None, started)], []
    pools, files, remarks = fpm_pools.probe(host, one.fpm_config, place.shelf.facts.constants)
    configuration.files += files
    configuration.remarks += remarks
    return [_runtime(host, one, place, configuration, pool, started) for pool in pools], [] if pools else remarks


def _runtime(
    host: Host, one: Installation, place: Place, configuration: Configuration, pool: Pool | None, started: float | None
) -> Runtime:
    extensions = php_modules.loaded(host, one, place.branch, place.shelf, configuration)
    active = {one.name for one in extensions if one.fault is None}
    overrides = pool.overrides if pool else []
    service = one.service if one.service and re.fullmatch(PLAIN, one.service) else None
    known = place.shelf.facts
    return Runtime(
        branch=one.branch,
        sapi=one.sapi,
        version=one.version,
        pool=pool.name if pool else None,
        home=one.home,
        serves=one.serves,
        plain=one.sapi == "cli" and host.resolve("/usr/bin/php") == (host.resolve(one.program) or one.program),
        listen=pool.listen if pool else None,
        program=one.program,
        ini_file=configuration.ini_file,
        scan_dir=configuration.scan_dir,
        pool_file=pool.file if pool else None,
        pool_dir=pool.folder if pool else None,
        user=pool.user if pool else None,
        service=service,
        started=started,
        stale=_changed_since(host, started, [*configuration.files, *(e.path for e in extensions if e.path)]),
        settings=php_config.settings(known, one.sapi, active, one.extension_dir, configuration.lines, overrides),
        manager=pool.manager if pool else {},
        extensions=extensions,
        ini_lines=configuration.ini_lines,
        ini_length=configuration.ini_length,
        unread=tuple(dict.fromkeys(configuration.unread)),
        remarks=tuple(dict.fromkeys(configuration.remarks)),
    )


def _unsuited(
    served: tuple[Site, ...], runtimes: list[Runtime], places: dict[tuple[str, str], Place]
) -> Iterator[Remark]:
    """Thread-safe builds behind IIS.  Source: php.net, "Which version do I choose?" for Windows."""
    for site in served:
        runtime = next((one for one in runtimes if one.label == site.runtime), None)
        if site.server == "iis" and runtime and places[runtime.branch, runtime.home].branch.thread_safe:
            why = (
                f"{site.name} runs the thread-safe build {runtime.label} under FastCGI: the other build is meant for it"
            )
            yield Remark("web sites", why)


def _with_server(host: Host, runtime: Runtime, files: dict[str, list[str]], served: tuple[Site, ...]) -> Runtime:
    """A module inside Apache works as Apache's user, and awaits a restart when Apache's own configuration changed."""
    if runtime.sapi != "apache2":
        return runtime
    user = next((site.user for site in served if site.runtime == runtime.label and site.user), None)
    return replace(runtime, user=user, stale=(*runtime.stale, *_changed_since(host, runtime.started, files["apache2"])))


def _changed_since(host: Host, started: float | None, paths: list[str]) -> tuple[str, ...]:
    if started is None:
        return ()
    found = []
    for path in dict.fromkeys(paths):
        try:
            about = host.stat(path)
        except HostError:
            continue
        if about and about.modified > started:
            found.append(path)
    return tuple(found)


def written(survey: Survey) -> bytes:
    """The survey as the bytes of a ``*.survey.json`` file."""
    return msgspec.json.format(msgspec.json.encode(survey), indent=1) + b"\n"


def read(data: bytes, where: str) -> Survey:
    """A survey from the bytes of a file; a clear error if it is none."""
    try:
        found = msgspec.json.decode(data, type=Survey)
    except msgspec.ValidationError as error:
        raise InputError(where, f"not a survey of this program: {error}") from error
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(where, f"not JSON: {error}") from error
    if found.format != FORMAT:
        raise InputError(where, f"survey format {found.format}; this program reads format {FORMAT}")
    return found
