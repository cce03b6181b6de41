"""Where RHEL-family packages put PHP: one branch under ``/usr``, and branches beside it under ``/opt``."""

import posixpath
import re

from fundamentum.hosts.base import Host, HostError, listed, matching
from fundamentum.model.installation import Installation, branch_in
from fundamentum.model.php import Sapi
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_plain
from fundamentum.model.system import System
from fundamentum.php_files.php_binaries import read_program
from fundamentum.platforms import platform
from fundamentum.platforms.redhat import RedHat


def installations(host: Host, system: System) -> tuple[list[Installation], list[Remark]]:
    """The distribution's own PHP, then every collection under ``/opt``.

    Source: file layout of the family's packages and of software collections.
    """
    collected: list[Installation] = []
    remarks: list[Remark] = []
    if isinstance(platform(system.family), RedHat):
        collected += _one(host, "", "/usr", "/etc", "php-fpm", remarks)
    for vendor in listed(host, "/opt"):
        for name in listed(host, f"/opt/{vendor}"):
            home = f"/opt/{vendor}/{name}"
            if not is_plain(name) or not host.stat(f"{home}/root/usr"):
                continue
            config = next((c for c in (f"/etc/opt/{vendor}/{name}", f"{home}/root/etc") if host.stat(c)), None)
            if config:
                collected += _one(host, home, f"{home}/root/usr", config, f"{name}-php-fpm", remarks)
    return collected, remarks


def _one(host: Host, home: str, usr: str, config: str, service: str, remarks: list[Remark]) -> list[Installation]:
    name = posixpath.basename(home)
    apache = matching(host, f"/usr/lib*/httpd/modules/lib{name or 'php'}*.so")
    programs: list[tuple[Sapi, str]] = [("cli", f"{usr}/bin/php"), ("cgi", f"{usr}/bin/php-cgi")]
    programs += [("fpm", f"{usr}/sbin/php-fpm"), *(("apache2", path) for path in apache if _ordinary(path, name))]
    collected = []
    for sapi, path in programs:
        try:
            facts = read_program(host, path)
        except HostError as error:
            remarks.append(Remark("PHP", f"{error}: not judged", path))
            continue
        branch = branch_in(facts.version) if facts else None
        if facts is None or branch is None or facts.build is None:
            continue
        tail = "php-zts/modules" if facts.build.thread_safe else "php/modules"
        places = [f"{usr}/lib64/{tail}", f"{usr}/lib/{tail}"]
        directory = next((place for place in places if host.stat(place)), places[0])
        collected.append(
            Installation(
                branch,
                sapi,
                path,
                facts.version,
                config,
                (f"{config}/{'php-zts.d' if facts.build.thread_safe else 'php.d'}",),
                directory,
                facts.build,
                home=home,
                fpm_config=f"{config}/php-fpm.conf" if sapi == "fpm" else None,
                service={"fpm": service, "apache2": "httpd"}.get(sapi),
                inside=facts.inside,
                serves=sapi == "fpm",
            )
        )
    return collected


def _ordinary(path: str, name: str) -> bool:
    """The module that is not thread-safe, and of no collection unless it is the one asked for."""
    stem = posixpath.basename(path)
    return "zts" not in stem and (bool(name) or re.fullmatch(r"libphp[578]?\.so", stem) is not None)
