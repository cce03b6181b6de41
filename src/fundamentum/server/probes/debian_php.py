"""Where Debian's packages put PHP: branches, ways of running it, and the directories of each."""

import re
from typing import Final

import msgspec

from fundamentum.catalog import api_number, branch_key
from fundamentum.server.hosts import Host, HostError
from fundamentum.server.model import Remark, Sapi

_BRANCH: Final = re.compile(r"\d+\.\d+")
_SIGN: Final = b"X-Powered-By: PHP/"
_VERSION: Final = re.compile(rb"([0-9][0-9A-Za-z.+~-]{0,40})\0")

PROGRAMS: Final[dict[Sapi, tuple[str, ...]]] = {
    "cli": ("/usr/bin/php{branch}",),
    "fpm": ("/usr/sbin/php-fpm{branch}",),
    "apache2": ("/usr/lib/apache2/modules/libphp{branch}.so",),
    "cgi": ("/usr/bin/php-cgi{branch}", "/usr/lib/cgi-bin/php{branch}"),
}


class Installation(msgspec.Struct, frozen=True):
    """One program that runs PHP, and where it reads its configuration."""

    branch: str
    sapi: Sapi
    program: str
    version: str | None

    @property
    def folder(self) -> str:
        return f"/etc/php/{self.branch}/{self.sapi}"


def probe(host: Host) -> tuple[list[Installation], list[Remark]]:
    """Every installed program that runs PHP, oldest branch first.  Source: file layout of Debian's packages."""
    remarks: list[Remark] = []
    branches: set[str] = set()
    for folder in ("/etc/php", "/usr/lib/php"):
        try:
            branches |= {name for name in host.names(folder) if _BRANCH.fullmatch(name)}
        except HostError as error:
            remarks.append(Remark("PHP branches", str(error)))
    found = []
    for branch in sorted(branches, key=branch_key):
        for sapi, patterns in PROGRAMS.items():
            for pattern in patterns:
                program = pattern.format(branch=branch)
                if host.stat(program):
                    found.append(Installation(branch, sapi, program, _version(host, program, remarks)))
                    break
    return found, remarks


def _version(host: Host, program: str, remarks: list[Remark]) -> str | None:
    """The version inside the program itself, which it also sends as ``X-Powered-By``."""
    try:
        data = host.view(program) or b""
    except HostError as error:
        remarks.append(Remark(f"version of {program}", str(error)))
        return None
    at = data.find(_SIGN)
    match = _VERSION.match(data, at + len(_SIGN)) if at >= 0 else None
    return match[1].decode() if match else None


def extension_dir(host: Host, branch: str) -> tuple[str, str] | None:
    """API number and extension directory of a branch."""
    api = api_number(branch)
    if api and host.stat(f"/usr/lib/php/{api}"):
        return api, f"/usr/lib/php/{api}"
    return None


def apache_module_on(host: Host, branch: str) -> bool:
    """Whether Apache loads this branch's module: a link among ``mods-enabled``."""
    return host.stat(f"/etc/apache2/mods-enabled/php{branch}.load") is not None
