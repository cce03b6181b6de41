"""PHP on Windows: a directory with its programs, its core library, ``ext`` and, if somebody made one, ``php.ini``."""

import posixpath
import re
from collections.abc import Iterator
from typing import Final

from fundamentum.hosts.base import Host, HostError, listed
from fundamentum.hosts.windows_directory import CORE, php_folders
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.installation import INI_NAMES, Installation, branch_in
from fundamentum.model.php import Sapi
from fundamentum.model.remark import Remark
from fundamentum.model.system import System
from fundamentum.php_files.php_binaries import MAX_BINARY, Program, program
from fundamentum.platforms.windows import registry
from fundamentum.platforms.windows.registry import Registry

_PROGRAMS: Final[tuple[tuple[Sapi, re.Pattern[str]], ...]] = (
    ("cli", lazy_regex(r"php\.exe", re.I)),
    ("cgi", lazy_regex(r"php-cgi\.exe", re.I)),
    ("apache2", lazy_regex(r"php\d?apache2_4\.dll", re.I)),
)
WINDOWS: Final = "/Windows"
SAMPLES: Final = ("php.ini-production", "php.ini-development")
BUILT_IN_DIR: Final = "C:\\php\\ext"
"""Where extensions are looked for unless ``extension_dir`` is set.  Source: win32/build/config.w32 of PHP."""


def installations(host: Host, system: System) -> tuple[list[Installation], list[Remark]]:
    """Every PHP in the tree.  Source: content of PHP's archives for Windows."""
    collected: list[Installation] = []
    remarks: list[Remark] = []
    folders = php_folders(host)
    noted = registry.read(host, [folder for folder, _ in folders])
    remarks += [Remark("configuration", f"{why}: what the registry says of PHP is unknown") for why in noted.unread]
    for value in noted.per_directory():
        why = f"{value.origin}: the registry sets {value.name} for scripts in a directory, which is not followed"
        remarks.append(Remark("configuration", why))
    for folder, names in folders:
        try:
            collected += _one(host, folder, names, noted, remarks)
        except HostError as error:
            remarks.append(Remark("PHP", f"{error}: not judged", folder))
    return collected, remarks


def _one(host: Host, folder: str, names: list[str], noted: Registry, remarks: list[Remark]) -> Iterator[Installation]:
    core = next(name for name in names if CORE.fullmatch(name))
    library = _read(host, posixpath.join(folder, core))
    branch = branch_in(library.version)
    if library.build is None or branch is None or library.version is None:
        remarks.append(Remark("PHP", f"{core} does not say which PHP it is: not judged", folder))
        return
    by_name = {name.lower(): name for name in names}
    sample = next((by_name[name] for name in SAMPLES if name in by_name), None)
    variables = {name: text for name, value in noted.environment().items() if (text := _listed(host, value))}
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
        named = noted.ini_folders(library.version, build.processor == "x86")
        ini_files = _ini_files((*(at for text in named if (at := registry.folder(host, text))), ini_folder), sapi)
        if not any(host.stat(ini_file) for ini_file in ini_files):
            copy = f"; {sample} was never copied to php.ini" if sample else ""
            remark = Remark("PHP", f"no php.ini there{copy}: built-in defaults apply", ini_folder)
            remarks += [remark] if remark not in remarks else []
        yield Installation(
            branch,
            sapi,
            path,
            library.version,
            ini_folder,
            (),
            posixpath.join(folder, "ext"),
            build,
            home=folder,
            ini_files=ini_files,
            service={"apache2": "Apache2.4", "cgi": "W3SVC"}.get(sapi),
            inside=_with_sapi(library.inside, sapi),
            variables=variables,
            sample=posixpath.join(folder, sample) if sample else "",
            built_in_dir=BUILT_IN_DIR,
        )


def _listed(host: Host, text: str) -> str:
    """A variable's directories as paths here; empty where one of them is not known."""
    parts = [registry.folder(host, part) if part else "" for part in text.split(";")]
    return ";".join(part or "" for part in parts) if None not in parts else ""


def _ini_files(folders: tuple[str, ...], sapi: Sapi) -> tuple[str, ...]:
    """Where the php.ini is looked for.  Source: ``php_init_config`` in php_ini.c: what the registry names, the
    directory of the program that runs PHP, which for a module is the web server's, and then Windows' own; everywhere
    for the name with the way of running first."""
    names = (INI_NAMES[sapi], "php.ini")
    return tuple(posixpath.join(place, name) for name in names for place in (*folders, WINDOWS))


def _web_server_programs(host: Host, folder: str) -> str | None:
    """The directory of the web server's own program beside PHP, as bundles have it; None if it is not clear which."""
    above = posixpath.dirname(folder)
    folders = {
        posixpath.join(place, name, "bin")
        for place in {above, posixpath.dirname(above)}
        for name in listed(host, place)
        if re.match(r"(?i)apache", name) and host.stat(posixpath.join(place, name, "bin", "httpd.exe"))
    }
    return folders.pop() if len(folders) == 1 else None


def _read(host: Host, path: str) -> Program:
    return program(host.read(path, MAX_BINARY) or b"")


def _with_sapi(inside: tuple[str, ...] | None, sapi: Sapi) -> tuple[str, ...] | None:
    own = {"cgi": "cgi-fcgi", "apache2": "apache2handler"}.get(sapi)
    return (*inside, own) if inside and own and own not in inside else inside
