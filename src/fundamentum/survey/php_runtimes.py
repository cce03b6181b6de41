"""Every PHP on a server as the ways in which it is run, each with the configuration that counts for it."""

import posixpath
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import TypeVar

import msgspec
from msgspec.structs import replace

from fundamentum.catalog import facts
from fundamentum.hosts.base import Host, HostError
from fundamentum.hosts.processes import Process, Running
from fundamentum.model.installation import Installation
from fundamentum.model.packages import Packages
from fundamentum.model.php import Branch, Runtime
from fundamentum.model.remark import Remark, RemarkKind
from fundamentum.model.safe_text import is_path, is_plain
from fundamentum.model.system import System
from fundamentum.php_files import php_binaries
from fundamentum.survey import file_marks
from fundamentum.survey.installations import installations
from fundamentum.survey.probes import fpm_pools, php_config, php_modules
from fundamentum.survey.probes.fpm_pools import Pool
from fundamentum.survey.probes.fpm_refusals import refusal
from fundamentum.survey.probes.php_config import Configuration
from fundamentum.survey.probes.php_modules import Shelf
from fundamentum.survey.probes.process_managers import with_masters
from fundamentum.survey.probes.start_options import Start, as_started, start_of
from fundamentum.survey.running_services import changed_since, environment_of, last_read
from fundamentum.webservers.sites import StartedBy

T = TypeVar("T")


class Place(msgspec.Struct):
    """One branch in one place: what is known of it, and where its extension files come from."""

    branch: Branch
    shelf: Shelf


def reading(
    remarks: list[Remark],
    what: RemarkKind,
    probe: Callable[[], tuple[T, list[Remark]]],
    nothing: T,
    subject: str = "",
) -> T:
    """What one part tells; nothing, and a remark, where it cannot be read."""
    try:
        probed, said = probe()
    except HostError as error:
        probed, said = nothing, [Remark(what, f"{error}: unknown", subject)]
    remarks.extend(said)
    return probed


def every_php(
    host: Host, about: System, packages: Packages, remarks: list[Remark], running: Running, asked: Sequence[str]
) -> tuple[list[Installation], dict[tuple[str, str], Place]]:
    """Every PHP here, and where it stands."""
    programs: list[Installation] = reading(remarks, "PHP", partial(installations, host, about), [])
    programs = with_masters(host, programs, running.processes)
    look = partial(_places, host, programs, packages.owners, asked)
    places: dict[tuple[str, str], Place] = reading(remarks, "extension files", look, {})
    if running.hidden:
        why = "servers run of which only root sees when they started: whether a restart is due is unknown"
        remarks.append(Remark("running services", why))
    return programs, places


def runtimes_of(
    host: Host,
    about: System,
    programs: Iterable[Installation],
    places: Mapping[tuple[str, str], Place],
    remarks: list[Remark],
    running: Running,
    starts: Mapping[str, StartedBy],
) -> list[Runtime]:
    """Every way PHP is run.  ``starts``: what web servers give a way of running, or a program."""
    runtimes: list[Runtime] = []
    for program in programs:
        if place := places.get((program.branch, program.home)):
            given = starts.get(program.program) or starts.get(program.sapi) or StartedBy()
            read = partial(_runtimes, host, about, program, place, running.processes, given)
            runtimes += reading(remarks, "PHP", read, [], program.program)
    return runtimes


def _places(
    host: Host, programs: list[Installation], owners: dict[str, str], asked: Sequence[str]
) -> tuple[dict[tuple[str, str], Place], list[Remark]]:
    places: dict[tuple[str, str], Place] = {}
    remarks: list[Remark] = []
    for program in programs:
        if (program.branch, program.home) not in places:
            shelf = php_modules.shelf(host, program, facts(program.branch), owners, asked)
            branch, remarks_of_modules = php_modules.available(host, program.home, shelf)
            beneath = php_binaries.linked(host.view(program.program) or b"") if asked else ()
            places[program.branch, program.home] = Place(replace(branch, linked=beneath), shelf)
            remarks += remarks_of_modules
    return places, remarks


def _runtimes(
    host: Host, about: System, installation: Installation, place: Place, running: tuple[Process, ...], given: StartedBy
) -> tuple[list[Runtime], list[Remark]]:
    """The runtimes of one program.  Remarks that belong to none of them are returned beside."""
    start = start_of(host, installation, environment_of(installation, running))
    start.ini = given.ini_path or start.ini
    start.variables |= given.variables
    usual = installation.ini_files or ()
    installation = as_started(host, installation, start)
    configuration = php_config.probe(host, installation, place.shelf.facts)
    _take_start(configuration, start)
    if host.windows:
        configuration.remarks += _not_read(host, installation, usual, configuration)
    started = last_read(host, about, installation, running)
    if not installation.fpm_config:
        return [_runtime(host, installation, place, configuration, None, started)], []
    pool_files = fpm_pools.probe(host, installation.fpm_config, place.shelf.facts.constants)
    configuration.files += pool_files.files
    configuration.remarks += pool_files.remarks
    runtimes = [_runtime(host, installation, place, configuration, pool, started) for pool in pool_files.pools]
    refused = refusal(host, pool_files.lines, pool_files.broken, installation.branch)
    runtimes = [replace(runtime, refused=refused) for runtime in runtimes]
    return runtimes, [] if runtimes else pool_files.remarks


def _not_read(
    host: Host, installation: Installation, usual: Sequence[str], configuration: Configuration
) -> Iterator[Remark]:
    """Files that somebody may take for this PHP's own php.ini, and that it does not read."""
    looked_for = (posixpath.dirname(path) for path in usual)
    for folder in dict.fromkeys((installation.ini_folder, installation.home, *looked_for)):
        path = f"{folder.rstrip('/')}/php.ini"
        if path != configuration.ini_file and host.stat(path):
            counts = configuration.ini_file or "no file"
            yield Remark("configuration", f"{path} is not read by this PHP: {counts} is")


def _take_start(configuration: Configuration, start: Start) -> None:
    """What the way in which PHP is started adds: lines stronger than all files; or nothing is known of any line."""
    configuration.files += start.files
    configuration.lines += [
        php_config.Line(define.name, define.value, define.origin, "start") for define in start.defines
    ]
    if start.unsure:
        configuration.lines.append(php_config.Line(php_config.UNREAD, None, start.unsure))
        why = f"{start.unsure}: PHP is started so that it reads other files than usual: its settings are unknown"
        configuration.remarks.append(Remark("configuration", why))


def _runtime(
    host: Host,
    installation: Installation,
    place: Place,
    configuration: Configuration,
    pool: Pool | None,
    started: float | None,
) -> Runtime:
    extensions = php_modules.loaded(host, installation, place.branch, place.shelf, configuration)
    active = {extension.name for extension in extensions if extension.fault is None}
    overrides = pool.overrides if pool else []
    service = installation.service if is_plain(installation.service) else None
    known = place.shelf.facts
    apart = installation.home and installation.ini_folder != installation.home
    elsewhere = f"{installation.ini_folder.rstrip('/')}/php.ini" if apart else ""
    settings = php_config.settings(
        known,
        installation.sapi,
        active,
        installation.built_in_dir or installation.extension_dir,
        configuration.lines,
        overrides,
    )
    unset = {name for name, setting in settings.items() if setting.origin.built_in}
    runtime = Runtime(
        branch=installation.branch,
        sapi=installation.sapi,
        version=installation.version,
        home=installation.home,
        master=installation.master,
        serves=installation.serves,
        plain=installation.sapi == "cli"
        and host.resolve("/usr/bin/php") == (host.resolve(installation.program) or installation.program),
        program=installation.program,
        also=installation.also,
        new_ini=elsewhere,
        temporary="" if host.windows else "/tmp",
        service=service,
        started=started,
        stale=changed_since(host, started, [*configuration.files, *(e.path for e in extensions if e.path)]),
        settings=settings,
        commented={name: number for name, number in configuration.commented.items() if name in unset},
        extensions=extensions,
        extension_dir_line=php_modules.directory_line(host, installation, place.shelf, configuration),
        files=file_marks.deciding(installation.program, configuration, pool.folder if pool else None),
    )
    runtime = _with_lines(runtime, configuration)
    return _with_pool(runtime, pool) if pool else runtime


def _with_lines(runtime: Runtime, configuration: Configuration) -> Runtime:
    """The runtime with its configuration's files and their lines."""
    return replace(
        runtime,
        packaged=configuration.packaged,
        ini_file=configuration.ini_file,
        scan_dir=configuration.scan_dir if is_path(configuration.scan_dir) else None,
        sections=tuple(configuration.sections),
        ini_lines=configuration.ini_lines,
        ini_length=configuration.ini_length,
        sample=configuration.sample,
        unread=tuple(dict.fromkeys(configuration.unread)),
        remarks=tuple(dict.fromkeys(configuration.remarks)),
    )


def _with_pool(runtime: Runtime, pool: Pool) -> Runtime:
    """The runtime as one pool of its process manager."""
    return replace(
        runtime,
        pool=pool.name,
        listen=pool.listen,
        listen_owner=pool.owner,
        listen_group=pool.group,
        listen_mode=pool.mode,
        listen_open=pool.open,
        pool_file=pool.file,
        pool_dir=pool.folder if is_path(pool.folder) else None,
        pool_pattern=pool.pattern,
        chroot=pool.chroot or "",
        user=pool.user,
        group=pool.works_in if is_plain(pool.works_in) else None,
        manager=pool.manager,
        pool_also=tuple(pool.also),
    )
