"""Look at a server: ask every probe, and put what they saw together."""

import posixpath

import msgspec

from fundamentum.catalog import facts
from fundamentum.errors import InputError
from fundamentum.server.hosts import DirectoryHost, Host, HostError
from fundamentum.server.model import Branch, Remark, Runtime, Survey
from fundamentum.server.probes import apt, debian_php, dpkg, fpm_pools, php_config, php_modules, processes, system
from fundamentum.server.probes.debian_php import Installation
from fundamentum.server.probes.fpm_pools import Pool
from fundamentum.server.probes.php_config import Configuration
from fundamentum.server.probes.processes import Process

FORMAT = 1


def survey(host: DirectoryHost) -> Survey:
    """Everything that matters for PHP on this server.  Reads; changes and runs nothing there."""
    about, remarks = system.probe(host)
    installed, more = dpkg.probe(host)
    remarks += more
    installations, more = debian_php.probe(host)
    remarks += more
    offers = None
    if about.family == "debian":
        offers, more = apt.probe(host, about.architecture)
        remarks += more
    else:
        remarks.append(
            Remark("packages", "no package database this program can read: what could be installed is unknown")
        )
    branches, more = _branches(host, installations, about.architecture)
    remarks += more
    running = processes.probe(host.root)
    runtimes = tuple(
        runtime
        for one in installations
        if one.branch in branches
        for runtime in _runtimes(host, one, branches[one.branch], running, about.architecture)
    )
    for path in dict.fromkeys(host.passed_over):
        remarks.append(Remark("file names", f"{path}: a file whose name is no UTF-8 text is left out"))
    return Survey(
        format=FORMAT,
        server=system.hostname(host),
        system=about,
        branches=tuple(branches.values()),
        runtimes=runtimes,
        installed=installed,
        offers=offers,
        remarks=tuple(remarks),
    )


def _branches(
    host: Host, installations: list[Installation], architecture: str
) -> tuple[dict[str, Branch], list[Remark]]:
    found: dict[str, Branch] = {}
    remarks: list[Remark] = []
    owners = dpkg.owners(host, ("/usr/lib/php/",)) if installations else {}
    for branch in dict.fromkeys(one.branch for one in installations):
        where = debian_php.extension_dir(host, branch)
        if where is None:
            remarks.append(
                Remark(f"PHP {branch}", "no extension directory of that branch under /usr/lib/php: not judged")
            )
            continue
        found[branch], more = php_modules.available(host, branch, *where, facts(branch), owners, architecture)
        remarks += more
    return found, remarks


def _runtimes(
    host: Host, one: Installation, branch: Branch, running: list[Process], architecture: str
) -> list[Runtime]:
    configuration = php_config.probe(host, one.folder, facts(one.branch))
    pools: list[Pool | None] = [None]
    if one.sapi == "fpm":
        found, files, remarks = fpm_pools.probe(host, one.folder, facts(one.branch).constants)
        configuration.files += files
        configuration.remarks += remarks
        pools = list(found)
    return [_runtime(host, one, branch, configuration, pool, running, architecture) for pool in pools]


def _runtime(
    host: Host,
    one: Installation,
    branch: Branch,
    configuration: Configuration,
    pool: Pool | None,
    running: list[Process],
    architecture: str,
) -> Runtime:
    known = facts(one.branch)
    overrides = pool.overrides if pool else []
    extensions = php_modules.loaded(host, branch, known, one.sapi, configuration, architecture)
    active = {one.name for one in extensions if one.fault is None}
    service = {"fpm": f"php{one.branch}-fpm", "apache2": "apache2"}.get(one.sapi)
    started = next((p.started for p in running if p.service == service), None)
    return Runtime(
        branch=one.branch,
        sapi=one.sapi,
        version=one.version,
        pool=pool.name if pool else None,
        serves=one.sapi == "fpm" or (one.sapi == "apache2" and debian_php.apache_module_on(host, one.branch)),
        program=one.program,
        ini_file=configuration.ini_file,
        scan_dir=configuration.scan_dir,
        pool_file=pool.file if pool else None,
        pool_dir=posixpath.join(one.folder, "pool.d") if pool else None,
        user=pool.user if pool else None,
        service=service,
        started=started,
        stale=_changed_since(host, started, [*configuration.files, *(e.path for e in extensions if e.path)]),
        settings=php_config.settings(known, one.sapi, active, branch.extension_dir, configuration.lines, overrides),
        extensions=extensions,
        unread=tuple(dict.fromkeys(configuration.unread)),
        remarks=tuple(dict.fromkeys(configuration.remarks)),
    )


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
