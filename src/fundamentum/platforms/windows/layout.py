"""PHP on Windows: a directory with its programs, its core library, ``ext`` and, if somebody made one, ``php.ini``."""

import posixpath
import re
from typing import Final

from fundamentum.hosts.base import Host, HostError, listed
from fundamentum.hosts.windows_directory import CORE, php_folders
from fundamentum.model.installation import INI_NAMES, Installation, branch_in
from fundamentum.model.php import Sapi
from fundamentum.model.remark import Remark
from fundamentum.model.system import System
from fundamentum.php_files.php_binaries import MAX_BINARY, Program, program

_PROGRAMS: Final[tuple[tuple[Sapi, re.Pattern[str]], ...]] = (
    ("cli", re.compile(r"php\.exe", re.I)),
    ("cgi", re.compile(r"php-cgi\.exe", re.I)),
    ("apache2", re.compile(r"php\d?apache2_4\.dll", re.I)),
)
WINDOWS: Final = "/Windows"
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
        ini_folder = (_web_server_programs(host, folder) or folder) if sapi == "apache2" else folder
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
                ini_folder,
                (),
                posixpath.join(folder, "ext"),
                build,
                home=folder,
                ini_files=_ini_files(ini_folder, sapi),
                service={"apache2": "Apache2.4", "cgi": "W3SVC"}.get(sapi),
                inside=_with_sapi(library.inside, sapi),
            )
        )
    return found


def _ini_files(folder: str, sapi: Sapi) -> tuple[str, ...]:
    """Where the php.ini is looked for.  Source: php.net, "The configuration file": the directory of the program that
    runs PHP, which for a module is the web server's, and then Windows' own; everywhere for the name with the way of
    running first."""
    names = (INI_NAMES[sapi], "php.ini")
    return tuple(posixpath.join(place, name) for name in names for place in (folder, WINDOWS))


def _web_server_programs(host: Host, folder: str) -> str | None:
    """The directory of the web server's own program beside PHP, as bundles have it; None if it is not clear which."""
    above = posixpath.dirname(folder)
    found = {
        posixpath.join(place, name, "bin")
        for place in {above, posixpath.dirname(above)}
        for name in listed(host, place)
        if re.match(r"(?i)apache", name) and host.stat(posixpath.join(place, name, "bin", "httpd.exe"))
    }
    return found.pop() if len(found) == 1 else None


def _read(host: Host, path: str) -> Program:
    return program(host.read(path, MAX_BINARY) or b"")


def _with_sapi(inside: tuple[str, ...] | None, sapi: Sapi) -> tuple[str, ...] | None:
    own = {"cgi": "cgi-fcgi", "apache2": "apache2handler"}.get(sapi)
    return (*inside, own) if inside and own and own not in inside else inside
