"""Where Debian's packages put PHP: branches, ways of running it, and the directories of each."""

from collections.abc import Iterator
from typing import Final

from fundamentum.catalog import api_number, branch_key
from fundamentum.hosts.base import Host, HostError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.installation import Installation
from fundamentum.model.php import Sapi
from fundamentum.model.remark import Remark
from fundamentum.model.system import System
from fundamentum.php_files.php_binaries import for_architecture, version_of
from fundamentum.platforms.base import too_old

_BRANCH: Final = lazy_regex(r"\d+\.\d+")

OLD: Final = "/etc/php5"
"""Where PHP 5 had its configuration, before branches could stand beside one another."""
PROGRAMS: Final[dict[Sapi, tuple[str, ...]]] = {
    "cli": ("/usr/bin/php{branch}",),
    "fpm": ("/usr/sbin/php-fpm{branch}",),
    "apache2": ("/usr/lib/apache2/modules/libphp{branch}.so",),
    "cgi": ("/usr/bin/php-cgi{branch}", "/usr/lib/cgi-bin/php{branch}"),
}


def installations(host: Host, system: System) -> tuple[list[Installation], list[Remark]]:
    """Every installed program that runs PHP, oldest branch first.  Source: file layout of Debian's packages."""
    remarks: list[Remark] = []
    branches: set[str] = set()
    for folder in ("/etc/php", "/usr/lib/php"):
        try:
            branches |= {name for name in host.names(folder) if _BRANCH.fullmatch(name)}
        except HostError as error:
            remarks.append(Remark("PHP branches", str(error)))
    if host.stat(OLD):
        remarks.append(too_old("5", OLD))
    collected = []
    for branch in sorted(branches, key=branch_key):
        programs = [(sapi, program) for sapi in PROGRAMS if (program := _program(host, sapi, branch))]
        api = api_number(branch)
        if programs and not (api and host.stat(f"/usr/lib/php/{api}")):
            remarks.append(
                Remark("PHP branch", "no extension directory of that branch under /usr/lib/php: not judged", branch)
            )
            continue
        for sapi, program in programs:
            folder = f"/etc/php/{branch}/{sapi}"
            collected.append(
                Installation(
                    branch,
                    sapi,
                    program,
                    _version(host, program, remarks),
                    folder,
                    (f"{folder}/conf.d",),
                    f"/usr/lib/php/{api}",
                    for_architecture(api or "", system.architecture),
                    fpm_config=f"{folder}/php-fpm.conf" if sapi == "fpm" else None,
                    service={"fpm": f"php{branch}-fpm", "apache2": "apache2"}.get(sapi),
                    also=tuple(p for p in _programs(host, sapi, branch) if p != program),
                    defaults=(f"/etc/default/php-fpm{branch}",) if sapi == "fpm" else (),
                    switches=f"/etc/php/{branch}/mods-available",
                    serves=sapi == "fpm"
                    or (sapi == "apache2" and host.stat(f"/etc/apache2/mods-enabled/php{branch}.load") is not None),
                )
            )
    return collected, remarks


def _program(host: Host, sapi: Sapi, branch: str) -> str | None:
    return next(_programs(host, sapi, branch), None)


def _programs(host: Host, sapi: Sapi, branch: str) -> Iterator[str]:
    """The files that run a branch in a way; of CGI there are two, which are equal."""
    paths = (pattern.format(branch=branch) for pattern in PROGRAMS[sapi])
    return (path for path in paths if host.stat(path))


def _version(host: Host, program: str, remarks: list[Remark]) -> str | None:
    try:
        return version_of(host.view(program) or b"")
    except HostError as error:
        remarks.append(Remark("version", str(error), program))
        return None
