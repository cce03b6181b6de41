"""Look at a server: ask every probe, and put what they saw together."""

import itertools
from collections.abc import Iterable, Iterator
from functools import partial

import msgspec
from msgspec.structs import replace

from fundamentum import __version__
from fundamentum.catalog.suppliers import packages_of
from fundamentum.hosts import processes
from fundamentum.hosts.base import Host
from fundamentum.hosts.processes import Running
from fundamentum.model.packages import Packages
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_service, scrubbed
from fundamentum.model.surrounding_facts import Asked, Machine
from fundamentum.model.survey import FORMAT, Site, Survey
from fundamentum.model.system import System
from fundamentum.platforms import part, platform
from fundamentum.survey import file_marks, surroundings
from fundamentum.survey.line_texts import LineTexts
from fundamentum.survey.php_runtimes import Place, every_php, runtimes_of
from fundamentum.survey.php_runtimes import reading as reading_part
from fundamentum.survey.probes import asked_answers, database_options, distribution, sandboxes
from fundamentum.survey.running_services import changed_since, web_servers
from fundamentum.survey.surroundings import Beside
from fundamentum.survey.user_files import not_looked_into, with_user_files
from fundamentum.webservers import names, set_up, sites, webserver
from fundamentum.webservers.sites import StartedBy

MAX_REMARKS = 2000


def survey(host: Host, asked: Asked | None = None) -> Survey:
    """Everything that matters for PHP on this server, and what is asked for beside.  Reads; changes nothing there.

    No text in it holds a control character.  What could not be read, or not within bounds, is said in its remarks.
    """
    if asked and host.asked:  # of others a recording holds nothing
        asked = replace(asked, tasks=tuple(task for task in asked.tasks if task in host.asked.tasks))
    about, remarks = distribution.probe(host)
    reading = partial(reading_part, remarks)
    packages = reading("packages", partial(_packages, host, about, asked or Asked()), _no_packages(about))
    about = packages.system
    running = _running(host, asked or Asked())
    seen = _php_and_sites(host, about, packages, remarks, running, asked or Asked())
    runtimes, read = seen.runtimes, _read(seen.found, (*seen.served, *seen.idle))
    for path in dict.fromkeys(host.passed_over):
        remarks.append(Remark("file names", f"{path}: a file whose name is no UTF-8 text is left out"))
    visit = host.visit
    nothing = Beside(machine=Machine(), accounts=(), groups={}, places=(), commands=(), tasks=(), exposed=())
    around = reading(
        "surroundings",
        partial(surroundings.probe, host, asked, runtimes, (*seen.served, *seen.idle), packages, seen.found.visits),
        nothing,
    )
    if host.budget.spent:
        runtimes = [_unread(runtime) for runtime in runtimes]
        why = f"reading stopped after {host.budget.spent}: what was not read by then, and every setting, is unknown"
        remarks.append(Remark("this server", why))
    options = database_options.probe(host, asked.options if asked else (), packages.installed, running.processes)
    read |= {of.product: of.files for of in options}
    surveyed = Survey(
        format=FORMAT,
        server=distribution.hostname(host),
        system=about,
        taken=visit.taken,
        program=__version__,
        reader="unknown" if visit.as_root is None else "root" if visit.as_root else "user",
        branches=tuple(place.branch for place in seen.places.values()),
        runtimes=tuple(runtimes),
        installed=packages.installed,
        repositories=tuple(packages.repositories),
        sites=seen.served,
        idle_sites=seen.idle,
        other_sites=seen.found.others,
        web_servers=set_up(host) if platform(about.family).modules_by_name else None,
        processes="partly" if running.hidden else "seen" if host.live or running.processes else "unseen",
        servers=tuple(
            replace(server, modules=seen.found.modules.get(server.server, ()))
            for server in web_servers(host, seen.found.files, running)
        ),
        remarks=tuple(dict.fromkeys(remarks))[:MAX_REMARKS],
        asked=asked,
        read=read,
        marks=file_marks.marks(host, itertools.chain(*(runtime.files for runtime in runtimes), *read.values())),
        options=options,
        sandboxes=sandboxes.probe(host, _services(about, runtimes, (*seen.served, *seen.idle))),
        answers=asked_answers.probe(host, asked or Asked(), running.processes),
        **around,
    )
    offers = packages.offers if packages.safe_offers else scrubbed(packages.offers)
    return replace(scrubbed(surveyed), offers=offers)


class _Seen(msgspec.Struct):
    """The PHPs of a server, and what serves them."""

    runtimes: list[Runtime]
    places: dict[tuple[str, str], Place]
    found: sites.Sites
    """As the web servers' files have it."""
    served: tuple[Site, ...]
    idle: tuple[Site, ...]


def _php_and_sites(
    host: Host, about: System, packages: Packages, remarks: list[Remark], running: Running, asked: Asked
) -> _Seen:
    """Every PHP and every site.  The way in which a web server starts PHP decides which files that reads."""
    programs, places = every_php(host, about, packages, remarks, running, asked.modules)
    runtimes = runtimes_of(host, about, programs, places, remarks, running, {})
    configured = sites.probe(host, runtimes, asked.visits)
    if any(started != StartedBy() for started in configured.starts.values()):  # the same, which read other files
        runtimes = runtimes_of(host, about, programs, places, [], running, configured.starts)
    remarks += [*configured.remarks, *not_looked_into(host, configured.served)]
    runtimes, served, idle = _completed(host, runtimes, configured)
    remarks += _unsuited(served, runtimes, places)
    return _Seen(runtimes, places, configured, served, idle)


def _read(configured: sites.Sites, all_sites: Iterable[Site]) -> dict[str, tuple[str, ...]]:
    """Which files decide what, as :attr:`Survey.read` has it."""
    read = {server: file_marks.of_web_server(files) for server, files in configured.files.items() if files}
    for site in all_sites:
        read.setdefault(site.name, []).extend(file_marks.of_site(site))
    return {name: tuple(dict.fromkeys(paths)) for name, paths in read.items()}


def _services(about: System, runtimes: Iterable[Runtime], all_sites: Iterable[Site]) -> Iterator[str]:
    """The services of PHP, and of the web servers that have sites."""
    yield from (runtime.service for runtime in runtimes if runtime.service)
    yield from (platform(about.family).web_service(site.server) for site in all_sites)


def _running(host: Host, asked: Asked) -> Running:
    """The processes of PHP's managers, of the web servers, and of what is asked about, as far as they can be seen."""
    servers = [webserver(name) for name in names()]
    beginnings = (text for server in servers for text in (server.process, server.worker))
    databases = [database_options.PROCESSES[option] for option in asked.options if option in database_options.PROCESSES]
    wanted = [processes.MANAGER, *filter(None, beginnings), *databases]
    return host.running(wanted, (*processes.VARIABLES, *asked.variables))


def _completed(
    host: Host, runtimes: list[Runtime], configured: sites.Sites
) -> tuple[list[Runtime], tuple[Site, ...], tuple[Site, ...]]:
    """The runtimes with what their web servers add; the sites, read and idle, with the files of their directories."""
    texts = LineTexts(host)
    runtimes = [
        texts.of_sections(_with_server(host, runtime, configured.files, configured.served)) for runtime in runtimes
    ]
    by_label = {runtime.label: runtime for runtime in runtimes}

    def completed(site: Site) -> Site:
        return texts.of_site(with_user_files(host, site, by_label[site.runtime]) if site.runtime in by_label else site)

    served, idle = tuple(map(completed, configured.served)), tuple(map(completed, configured.idle))
    runtimes = [_with_service_pool(runtime, (*served, *idle)) for runtime in runtimes]
    if leading := {site.runtime for site in served if site.runtime}:
        runtimes = [replace(runtime, serves=runtime.label in leading) for runtime in runtimes]
    return runtimes, served, idle


def _unread(runtime: Runtime) -> Runtime:
    """The runtime of a server that was not read to the end: nothing that files decide is known of it."""
    settings = {name: Setting(None, setting.origin) for name, setting in runtime.settings.items()}
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
    told: tuple[Packages, list[Remark]] = reader.read(host, about, asked, also)
    return told


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


def _with_service_pool(runtime: Runtime, all_sites: Iterable[Site]) -> Runtime:
    """A program that one group of a web server's starts begins anew with that group."""
    pools = {(site.server, site.service_pool) for site in all_sites if site.runtime == runtime.label}
    if len(pools) != 1:
        return runtime
    ((server, pool),) = pools
    service = webserver(server).service_of(pool) if pool else ""
    return replace(runtime, service=service) if is_service(service) else runtime


def _with_server(host: Host, runtime: Runtime, files: dict[str, list[str]], served: tuple[Site, ...]) -> Runtime:
    """A module inside a web server works as its user, and awaits a restart when its own configuration changed."""
    if runtime.sapi not in files:
        return runtime
    site = next((site for site in served if site.runtime == runtime.label and site.user), None)
    stale = (*runtime.stale, *changed_since(host, runtime.started, files[runtime.sapi]))
    return replace(runtime, user=site and site.user, group=site and site.group, stale=stale)
