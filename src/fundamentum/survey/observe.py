"""Look at a server: ask every probe, and put what they saw together."""

import itertools
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import TypeVar

import msgspec
from msgspec.structs import replace

from fundamentum import __version__
from fundamentum.catalog import facts
from fundamentum.catalog.suppliers import packages_of
from fundamentum.hosts import processes
from fundamentum.hosts.base import Host, HostError
from fundamentum.hosts.processes import Process, Running
from fundamentum.model.installation import Installation
from fundamentum.model.packages import Packages
from fundamentum.model.php import Branch, Runtime, Setting
from fundamentum.model.remark import Remark, RemarkKind
from fundamentum.model.safe_text import is_path, is_plain, scrubbed
from fundamentum.model.surrounding_facts import Asked, Machine
from fundamentum.model.survey import FORMAT, Site, Survey
from fundamentum.model.system import System
from fundamentum.php_files import php_binaries
from fundamentum.platforms import part, platform
from fundamentum.survey import file_marks, surroundings
from fundamentum.survey.installations import installations
from fundamentum.survey.line_texts import LineTexts
from fundamentum.survey.probes import asked_answers, database_options, distribution, fpm_pools, php_config, php_modules
from fundamentum.survey.probes.fpm_pools import Pool
from fundamentum.survey.probes.php_config import Configuration
from fundamentum.survey.probes.php_modules import Shelf
from fundamentum.survey.probes.process_managers import with_masters
from fundamentum.survey.probes.start_options import Start, as_started, start_of
from fundamentum.survey.running_services import changed_since, environment_of, last_read, web_servers
from fundamentum.survey.surroundings import Beside
from fundamentum.survey.user_files import not_looked_into, with_user_files
from fundamentum.webservers import names, set_up, sites, webserver

MAX_REMARKS = 2000


T = TypeVar("T")


class Place(msgspec.Struct):
    """One branch in one place: what is known of it, and where its extension files come from."""

    branch: Branch
    shelf: Shelf


def survey(host: Host, asked: Asked | None = None) -> Survey:
    """Everything that matters for PHP on this server, and what is asked for beside.  Reads; changes nothing there.

    No text in it holds a control character.  What could not be read, or not within bounds, is said in its remarks.
    """
    about, remarks = distribution.probe(host)
    reading = partial(_reading, remarks)
    packages = reading("packages", partial(_packages, host, about, asked or Asked()), _no_packages(about))
    about = packages.system
    running = _running(host, asked or Asked())
    programs, places = _php(host, about, packages, remarks, running, asked.modules if asked else ())
    runtimes = _all_runtimes(host, about, programs, places, remarks, running, {})
    found_sites = sites.probe(host, runtimes, asked.visits if asked else ())
    if found_sites.ini_paths:  # the same ones, which read other files
        runtimes = _all_runtimes(host, about, programs, places, [], running, found_sites.ini_paths)
    remarks += [*found_sites.remarks, *not_looked_into(host, found_sites.served)]
    runtimes, served, idle = _completed(host, runtimes, found_sites)
    read = _read(found_sites, (*served, *idle))
    remarks += _unsuited(served, runtimes, places)
    for path in dict.fromkeys(host.passed_over):
        remarks.append(Remark("file names", f"{path}: a file whose name is no UTF-8 text is left out"))
    visit = host.visit
    nothing = Beside(machine=Machine(), accounts=(), places=(), commands=(), tasks=(), exposed=())
    beside = reading(
        "surroundings",
        partial(surroundings.probe, host, asked, runtimes, (*served, *idle), packages, found_sites.visits),
        nothing,
    )
    if host.budget.spent:
        runtimes = [_unread(runtime) for runtime in runtimes]
        why = f"reading stopped after {host.budget.spent}: what was not read by then, and every setting, is unknown"
        remarks.append(Remark("this server", why))
    options = database_options.probe(host, asked.options if asked else (), packages.installed, running.processes)
    read |= {of.product: of.files for of in options}
    found = Survey(
        format=FORMAT,
        server=distribution.hostname(host),
        system=about,
        taken=visit.taken,
        program=__version__,
        reader="unknown" if visit.as_root is None else "root" if visit.as_root else "user",
        branches=tuple(place.branch for place in places.values()),
        runtimes=tuple(runtimes),
        installed=packages.installed,
        offers=packages.offers,
        repositories=tuple(packages.repositories),
        sites=served,
        idle_sites=idle,
        web_servers=set_up(host) if platform(about.family).modules_by_name else None,
        processes="partly" if running.hidden else "seen" if host.live or running.processes else "unseen",
        servers=tuple(
            replace(one, modules=found_sites.modules.get(one.server, ()))
            for one in web_servers(host, found_sites.files, running)
        ),
        remarks=tuple(dict.fromkeys(remarks))[:MAX_REMARKS],
        asked=asked,
        read=read,
        marks=file_marks.marks(host, itertools.chain(*(runtime.files for runtime in runtimes), *read.values())),
        options=options,
        answers=asked_answers.probe(host, asked or Asked(), running.processes),
        **beside,
    )
    return scrubbed(found)


def _read(found: sites.Sites, all_sites: Iterable[Site]) -> dict[str, tuple[str, ...]]:
    """Which files decide what, as :attr:`Survey.read` has it."""
    read = {server: file_marks.of_web_server(files) for server, files in found.files.items() if files}
    for site in all_sites:
        read.setdefault(site.name, []).extend(file_marks.of_site(site))
    return {name: tuple(dict.fromkeys(paths)) for name, paths in read.items()}


def _running(host: Host, asked: Asked) -> Running:
    """The processes of PHP's managers, of the web servers, and of what is asked about, as far as they can be seen."""
    servers = [webserver(name) for name in names()]
    beginnings = (text for server in servers for text in (server.process, server.worker))
    databases = [database_options.PROCESSES[one] for one in asked.options if one in database_options.PROCESSES]
    wanted = [processes.MANAGER, *filter(None, beginnings), *databases]
    return host.running(wanted, (*processes.VARIABLES, *asked.variables))


def _completed(
    host: Host, runtimes: list[Runtime], found: sites.Sites
) -> tuple[list[Runtime], tuple[Site, ...], tuple[Site, ...]]:
    """The runtimes with what their web servers add; the sites, read and idle, with the files of their directories."""
    texts = LineTexts(host)
    runtimes = [texts.of_sections(_with_server(host, runtime, found.files, found.served)) for runtime in runtimes]
    by_label = {runtime.label: runtime for runtime in runtimes}

    def completed(site: Site) -> Site:
        return texts.of_site(with_user_files(host, site, by_label[site.runtime]) if site.runtime in by_label else site)

    served, idle = tuple(map(completed, found.served)), tuple(map(completed, found.idle))
    if leading := {site.runtime for site in served if site.runtime}:
        runtimes = [replace(runtime, serves=runtime.label in leading) for runtime in runtimes]
    return runtimes, served, idle


def _reading(
    remarks: list[Remark],
    what: RemarkKind,
    probe: Callable[[], tuple[T, list[Remark]]],
    nothing: T,
    subject: str = "",
) -> T:
    """What one part tells; nothing, and a remark, where it cannot be read."""
    try:
        found, said = probe()
    except HostError as error:
        found, said = nothing, [Remark(what, f"{error}: unknown", subject)]
    remarks.extend(said)
    return found


def _php(
    host: Host, about: System, packages: Packages, remarks: list[Remark], running: Running, asked: Sequence[str]
) -> tuple[list[Installation], dict[tuple[str, str], Place]]:
    """Every PHP here, and where it stands."""
    programs: list[Installation] = _reading(remarks, "PHP", partial(installations, host, about), [])
    programs = with_masters(host, programs, running.processes)
    look = partial(_places, host, programs, packages.owners, asked)
    places: dict[tuple[str, str], Place] = _reading(remarks, "extension files", look, {})
    if running.hidden:
        why = "servers run of which only root sees when they started: whether a restart is due is unknown"
        remarks.append(Remark("running services", why))
    return programs, places


def _all_runtimes(
    host: Host,
    about: System,
    programs: Iterable[Installation],
    places: Mapping[tuple[str, str], Place],
    remarks: list[Remark],
    running: Running,
    ini_paths: Mapping[str, str],
) -> list[Runtime]:
    """Every way PHP is run.  ``ini_paths``: the php.ini, or its directory, that a way of running is given."""
    runtimes: list[Runtime] = []
    for program in programs:
        if place := places.get((program.branch, program.home)):
            more = partial(_runtimes, host, about, program, place, running.processes, ini_paths.get(program.sapi))
            runtimes += _reading(remarks, "PHP", more, [], program.program)
    return runtimes


def _unread(runtime: Runtime) -> Runtime:
    """The runtime of a server that was not read to the end: nothing that files decide is known of it."""
    settings = {name: Setting(None, one.origin) for name, one in runtime.settings.items()}
    return replace(runtime, settings=settings, unread=(*runtime.unread, runtime.ini_file or "configuration"))


def _no_packages(about: System) -> Packages:
    return Packages(about, None, {}, None, [])


def _packages(host: Host, about: System, asked: Asked) -> tuple[Packages, list[Remark]]:
    """What the platform's package manager knows; nothing, and why, where the platform has none that is read here."""
    reader = part(about.family, "packages")
    if not hasattr(reader, "read"):
        of = platform(about.family)
        remark = Remark("packages", f"{of.no_packages}; what is installed and what could be is unknown")
        return _no_packages(about), [remark]
    also = packages_of(asked.commands) | set(asked.packages)
    also |= {platform(about.family).cron_package} if asked.tasks else set()
    found: tuple[Packages, list[Remark]] = reader.read(host, about, asked, also)
    return found


def _places(
    host: Host, programs: list[Installation], owners: dict[str, str], asked: Sequence[str]
) -> tuple[dict[tuple[str, str], Place], list[Remark]]:
    found: dict[tuple[str, str], Place] = {}
    remarks: list[Remark] = []
    for program in programs:
        if (program.branch, program.home) not in found:
            shelf = php_modules.shelf(host, program, facts(program.branch), owners, asked)
            branch, more = php_modules.available(host, program.home, shelf)
            beneath = php_binaries.linked(host.view(program.program) or b"") if asked else ()
            found[program.branch, program.home] = Place(replace(branch, linked=beneath), shelf)
            remarks += more
    return found, remarks


def _runtimes(
    host: Host, about: System, one: Installation, place: Place, running: tuple[Process, ...], ini: str | None
) -> tuple[list[Runtime], list[Remark]]:
    """The runtimes of one program.  Remarks that belong to none of them are returned beside."""
    start = start_of(host, one, environment_of(one, running))
    start.ini = ini or start.ini
    one = as_started(host, one, start)
    configuration = php_config.probe(host, one, place.shelf.facts)
    _take_start(configuration, start)
    started = last_read(host, about, one, running)
    if not one.fpm_config:
        return [_runtime(host, one, place, configuration, None, started)], []
    pools, files, remarks = fpm_pools.probe(host, one.fpm_config, place.shelf.facts.constants)
    configuration.files += files
    configuration.remarks += remarks
    return [_runtime(host, one, place, configuration, pool, started) for pool in pools], [] if pools else remarks


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
    service = installation.service if installation.service and is_plain(installation.service) else None
    known = place.shelf.facts
    settings = php_config.settings(
        known, installation.sapi, active, installation.extension_dir, configuration.lines, overrides
    )
    unset = {name for name, setting in settings.items() if setting.origin.built_in}
    return Runtime(
        branch=installation.branch,
        sapi=installation.sapi,
        version=installation.version,
        pool=pool.name if pool else None,
        home=installation.home,
        master=installation.master,
        packaged=configuration.packaged,
        serves=installation.serves,
        plain=installation.sapi == "cli"
        and host.resolve("/usr/bin/php") == (host.resolve(installation.program) or installation.program),
        listen=pool.listen if pool else None,
        listen_owner=pool.owner if pool else None,
        listen_group=pool.group if pool else None,
        listen_mode=pool.mode if pool else 0o660,
        listen_open=pool.open if pool else False,
        program=installation.program,
        also=installation.also,
        ini_file=configuration.ini_file,
        scan_dir=configuration.scan_dir if is_path(configuration.scan_dir) else None,
        pool_file=pool.file if pool else None,
        pool_dir=pool.folder if pool and is_path(pool.folder) else None,
        pool_pattern=pool.pattern if pool else "*.conf",
        chroot=(pool.chroot if pool else None) or "",
        user=pool.user if pool else None,
        service=service,
        started=started,
        stale=changed_since(host, started, [*configuration.files, *(e.path for e in extensions if e.path)]),
        settings=settings,
        commented={name: number for name, number in configuration.commented.items() if name in unset},
        manager=pool.manager if pool else {},
        extensions=extensions,
        sections=tuple(configuration.sections),
        ini_lines=configuration.ini_lines,
        ini_length=configuration.ini_length,
        files=file_marks.deciding(installation.program, configuration, pool.folder if pool else None),
        unread=tuple(dict.fromkeys(configuration.unread)),
        remarks=tuple(dict.fromkeys(configuration.remarks)),
    )


def _unsuited(
    served: tuple[Site, ...], runtimes: list[Runtime], places: dict[tuple[str, str], Place]
) -> Iterator[Remark]:
    """Builds of PHP that are not meant for the web server that runs them."""
    for site in served:
        runtime = next((runtime for runtime in runtimes if runtime.label == site.runtime), None)
        branch = places[runtime.branch, runtime.home].branch if runtime else None
        if runtime and branch and (why := webserver(site.server).unsuited(branch)):
            build = "the thread-safe build" if branch.thread_safe else "the build"
            yield Remark("web sites", f"{site.name} runs {build} {runtime.label} {why}")


def _with_server(host: Host, runtime: Runtime, files: dict[str, list[str]], served: tuple[Site, ...]) -> Runtime:
    """A module inside a web server works as its user, and awaits a restart when its own configuration changed."""
    if runtime.sapi not in files:
        return runtime
    user = next((site.user for site in served if site.runtime == runtime.label and site.user), None)
    return replace(
        runtime, user=user, stale=(*runtime.stale, *changed_since(host, runtime.started, files[runtime.sapi]))
    )
