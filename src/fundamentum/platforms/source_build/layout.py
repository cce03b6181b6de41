"""A PHP that no layout known here put in its place: compiled by hand, or another distribution's.

Where it reads its configuration was decided when it was built, and stands in the program itself.
"""

import itertools
import posixpath
import re
from typing import Final

from fundamentum.hosts.base import Host, HostError, listed, matching
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.installation import Installation, branch_in
from fundamentum.model.php import Sapi
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_plain
from fundamentum.model.system import System
from fundamentum.php_files.php_binaries import MAX_BINARY, read_program
from fundamentum.platforms import platform

PLACES: Final = (
    "/usr/local/bin/php*",
    "/usr/local/sbin/php*",
    "/usr/local/*/bin/php*",
    "/usr/local/*/sbin/php*",
    "/opt/*/bin/php*",
    "/opt/*/sbin/php*",
)
SYSTEM_PLACES: Final = ("/usr/bin/php*", "/usr/sbin/php*")
"""Looked into only where no package layout is known."""
_NAMES: Final[tuple[tuple[Sapi, re.Pattern[str]], ...]] = (
    ("cli", lazy_regex(r"php-?[0-9.]*")),
    ("fpm", lazy_regex(r"php-?[0-9.]*-?fpm-?[0-9.]*")),
    ("cgi", lazy_regex(r"php-?[0-9.]*-?cgi-?[0-9.]*")),
)
_PATH: Final = lazy_regex(rb"(?<=\0)/[!-~]{2,200}(?=\0)")


def installations(host: Host, system: System) -> tuple[list[Installation], list[Remark]]:
    """Every PHP in the usual places for software of one's own."""
    remarks: list[Remark] = []
    places = PLACES if platform(system.family).packaged else (*PLACES, *SYSTEM_PLACES)
    paths = dict.fromkeys(host.resolve(path) or path for place in places for path in matching(host, place))
    collected = (_one(host, path, system, remarks) for path in paths)
    return [installation for installation in collected if installation], remarks


def _one(host: Host, path: str, system: System, remarks: list[Remark]) -> Installation | None:
    sapi = next((sapi for sapi, name in _NAMES if name.fullmatch(posixpath.basename(path))), None)
    if sapi is None:
        return None
    try:
        facts = read_program(host, path)
    except HostError as error:
        remarks.append(Remark("PHP", f"{error}: not judged", path))
        return None
    branch = branch_in(facts.version) if facts else None
    if facts is None or branch is None or facts.build is None:
        return None
    prefix = facts.options.get("prefix") or posixpath.dirname(posixpath.dirname(path))
    inside = tuple(_paths_in(host, path))
    ini_folder = facts.options.get("with-config-file-path") or _holding(host, inside, "php.ini") or f"{prefix}/lib"
    scan = facts.options.get("with-config-file-scan-dir") or _holding(host, inside, ".ini", besides=ini_folder)
    extensions = facts.extension_dir or _holding(host, inside, ".so") or f"{prefix}/lib/php/extensions"
    folder = facts.options.get("sysconfdir") or _holding(host, inside, "php-fpm.conf") or f"{prefix}/etc"
    return Installation(
        branch,
        sapi,
        path,
        facts.version,
        ini_folder,
        tuple(scan.split(":")) if scan else (),
        extensions,
        facts.build,
        home="" if prefix == "/usr" else prefix,
        fpm_config=f"{folder}/php-fpm.conf" if sapi == "fpm" else None,
        service=_service(host, path) if sapi == "fpm" else None,
        inside=facts.inside,
        serves=sapi == "fpm",
    )


def _paths_in(host: Host, path: str) -> list[str]:
    data = host.read(path, MAX_BINARY) or b""
    matches = itertools.islice(_PATH.finditer(data), 100_000)
    return list(dict.fromkeys(m[0].decode("ascii") for m in matches))[:2000]


def _holding(host: Host, paths: tuple[str, ...], ending: str, besides: str = "") -> str | None:
    """The first directory named in the program that really holds such files."""
    return next(
        (path for path in paths if path.rstrip("/") != besides and any(n.endswith(ending) for n in listed(host, path))),
        None,
    )


def _service(host: Host, path: str) -> str | None:
    """The service that starts this program, from systemd's units."""
    patterns = ("/etc/systemd/system/*.service", "/usr/lib/systemd/system/php*.service")
    for unit in (path for pattern in patterns for path in matching(host, pattern)):
        name = posixpath.basename(unit).removesuffix(".service")
        try:
            text = host.read(unit, 65536) or b""
        except HostError:
            continue
        if is_plain(name) and re.search(rb"^ExecStart=-?" + re.escape(path.encode()) + rb"\b", text, re.M):
            return name
    return None
