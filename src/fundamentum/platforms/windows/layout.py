"""PHP on Windows: a directory with its programs, its core library, ``ext`` and, if somebody made one, ``php.ini``."""

import posixpath
import re
from typing import Final

from fundamentum.hosts.base import Host, HostError
from fundamentum.hosts.windows_directory import CORE, php_folders
from fundamentum.model.installation import Installation, branch_in
from fundamentum.model.php import Sapi
from fundamentum.model.remark import Remark
from fundamentum.model.system import System
from fundamentum.php_files.php_binaries import MAX_BINARY, Program, program

_PROGRAMS: Final[tuple[tuple[Sapi, re.Pattern[str]], ...]] = (
    ("cli", re.compile(r"php\.exe", re.I)),
    ("cgi", re.compile(r"php-cgi\.exe", re.I)),
    ("apache2", re.compile(r"php\d?apache2_4\.dll", re.I)),
)
SAMPLES: Final = ("php.ini-production", "php.ini-development")


def installations(host: Host, system: System) -> tuple[list[Installation], list[Remark]]:
    """Every PHP in the tree.  Source: content of PHP's archives for Windows."""
    found: list[Installation] = []
    remarks: list[Remark] = []
    if not host.windows:
        return found, remarks
    for folder, names in php_folders(host):
        try:
            found += _one(host, folder, names, remarks)
        except HostError as error:
            remarks.append(Remark("PHP", f"{error}: not judged", folder))
    return found, remarks


def _one(host: Host, folder: str, names: list[str], remarks: list[Remark]) -> list[Installation]:
    core = next(name for name in names if CORE.fullmatch(name))
    library = _read(host, posixpath.join(folder, core))
    branch = branch_in(library.version)
    if library.build is None or branch is None:
        remarks.append(Remark("PHP", f"{core} does not say which PHP it is: not judged", folder))
        return []
    ini = next((name for name in names if name.lower() == "php.ini"), None)
    sample = next((name for name in names if name.lower() in SAMPLES), None)
    if ini is None:
        copy = f"; {sample} was never copied to php.ini" if sample else ""
        remarks.append(Remark("PHP", f"no php.ini there{copy}: built-in defaults apply", folder))
    found = []
    for sapi, pattern in _PROGRAMS:
        name = next((name for name in names if pattern.fullmatch(name)), None)
        if name is None:
            continue
        path = posixpath.join(folder, name)
        own = _read(host, path)
        build = library.build
        if own.build and own.build.processor != build.processor:
            why = f"{name} is {own.build.processor}, {core} {build.processor}: they do not fit"
            remarks.append(Remark("PHP", why, folder))
        found.append(
            Installation(
                branch,
                sapi,
                path,
                library.version,
                folder,
                (),
                posixpath.join(folder, "ext"),
                build,
                home=folder,
                service={"apache2": "Apache2.4", "cgi": "W3SVC"}.get(sapi),
                inside=_with_sapi(library.inside, sapi),
            )
        )
    return found


def _read(host: Host, path: str) -> Program:
    return program(host.read(path, MAX_BINARY) or b"")


def _with_sapi(inside: tuple[str, ...] | None, sapi: Sapi) -> tuple[str, ...] | None:
    own = {"cgi": "cgi-fcgi", "apache2": "apache2handler"}.get(sapi)
    return (*inside, own) if inside and own and own not in inside else inside
