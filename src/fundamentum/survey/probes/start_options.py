"""How PHP is started, as far as it decides which configuration is read: units of systemd, and Apache's environment.

Sources: systemd.unit(5), systemd.service(5) and systemd.exec(5) on search path, drop-ins and resets; php-fpm(8) on its
options; php.net, "The configuration file", on ``PHPRC`` and ``PHP_INI_SCAN_DIR``.
"""

import posixpath
import re
import shlex
from collections.abc import Iterator, Mapping
from typing import Final

import msgspec
from msgspec.structs import replace

from fundamentum.hosts.base import Host, HostError, listed, text_of, text_or_none
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.installation import INI_NAMES, Installation
from fundamentum.model.origin import Origin
from fundamentum.untrusted.secrets import without_secrets
from fundamentum.webservers import webserver

FOLDERS: Final = (
    "/etc/systemd/system",
    "/run/systemd/system",
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
)
"""Where units are looked for; an earlier directory hides files of the same name in a later one."""
MAX_UNIT: Final = 64 * 1024
MAX_DROP_INS: Final = 200
_DECIDING: Final = frozenset({"PHPRC", "PHP_INI_SCAN_DIR"})
_VALUED: Final = {
    "-c": "-c",
    "--php-ini": "-c",
    "-d": "-d",
    "--define": "-d",
    "-y": "-y",
    "--fpm-config": "-y",
    "-p": "-p",
    "--prefix": "-p",
    "-g": "",
    "--pid": "",
}
"""Options that take a value, and the short name of those that matter."""
_PLAIN: Final = frozenset({"-n", "--no-php-ini"})
_UNSURE: Final = lazy_regex(r"[$%`\\]")
"""What stands for something else in a unit, or in a shell."""
_SYSTEMD: Final = ("/usr/lib/systemd/systemd", "/lib/systemd/systemd")


class Define(msgspec.Struct, frozen=True):
    """A directive set on the command line, stronger than every file."""

    name: str
    value: str | None
    origin: Origin


class Start(msgspec.Struct):
    """What the way in which a PHP is started says about its configuration."""

    defines: list[Define] = msgspec.field(default_factory=list)
    unsure: Origin | None = None
    """A line because of which other files may be read, which ones is not known."""
    files: list[str] = msgspec.field(default_factory=list)
    """The files that say so."""
    ini: str | None = None
    """The php.ini, or the directory it is looked for in, that an option names (``-c``)."""
    ignores: bool = False
    """Whether no ini file is read but that one (``-n``)."""
    variables: dict[str, str] = msgspec.field(default_factory=dict)
    """Those of its environment variables that decide which files are read."""
    fpm_config: str | None = None


class Line(msgspec.Struct, frozen=True):
    key: str
    value: str
    origin: Origin


class Unit(msgspec.Struct):
    """What is set for a service."""

    found: dict[str, list[Line]] = msgspec.field(default_factory=dict)
    unread: Origin | None = None
    """A file of it that could not be read."""
    files: list[str] = msgspec.field(default_factory=list)

    def lines(self, key: str) -> list[Line]:
        """The lines of one setting that are in effect, in order."""
        return self.found.get(key, [])


def start_of(host: Host, installation: Installation, environment: Mapping[str, str] | None = None) -> Start:
    """How this PHP is started, where it runs as a service.

    ``environment`` has the deciding variables of the process that runs, where they can be seen: they win over files.
    """
    start = Start()
    if installation.sapi in ("fpm", "apache2") and installation.service:
        _of_service(host, installation, start)
    if environment is not None:
        start.variables = dict(environment)
    return start


def as_started(host: Host, installation: Installation, start: Start) -> Installation:
    """Where this PHP reads its configuration when it is started so.  Source: ``php_init_config`` in php_ini.c."""
    names = (INI_NAMES[installation.sapi], "php.ini")
    usual = list(installation.ini_files or (posixpath.join(installation.ini_folder, name) for name in names))
    variables = {**installation.variables, **start.variables}
    around = variables.get("PHPRC", "")
    named = start.ini or around
    about = host.stat(named) if named else None
    if start.ini is not None:
        paths = [posixpath.join(named, name) for name in names] if about and about.is_directory else [named]
    elif start.ignores:
        paths = []
    elif not around or about is None:
        paths = usual
    elif about.is_directory:
        of_name = {name: [path for path in usual if posixpath.basename(path) == name] for name in names}
        paths = [path for name in names for path in (posixpath.join(around, name), *of_name[name])]
    else:
        paths = [around, *usual]
    scanned: tuple[str, ...] = () if start.ignores else installation.scan_dirs
    text = variables.get("PHP_INI_SCAN_DIR")
    if text is not None and not start.ignores:
        parts = text.split(";" if host.windows else ":") if text else []
        scanned = tuple(folder for part in parts for folder in ([part] if part else installation.scan_dirs))
    config = start.fpm_config or installation.fpm_config
    return replace(
        installation, ini_files=tuple(paths), scan_dirs=scanned, fpm_config=config, packaged_dirs=installation.scan_dirs
    )


def _of_service(host: Host, installation: Installation, start: Start) -> None:
    unit = unit_of(host, installation.service or "")
    start.unsure, start.files = unit.unread, list(unit.files)
    for line in unit.lines("Environment"):
        for name, value in _assigned(line.value):
            _variable(name, value, line.origin, start)
    for line in unit.lines("EnvironmentFile"):
        _variables(host, line.value.lstrip("-").strip(), start, shell=False)
    for line in unit.lines("UnsetEnvironment"):
        for name in line.value.split():
            start.variables.pop(name, None)
    if installation.sapi != "fpm":
        for path in webserver(installation.sapi).environment:
            _variables(host, path, start, shell=True)
        return
    for command in unit.lines("ExecStart"):
        _options(host, command, installation, start)
    _defaults(host, installation, start)


def _assigned(text: str) -> list[tuple[str, str]]:
    """The assignments of a line of ``Environment=``."""
    try:
        words = shlex.split(text)
    except ValueError:
        words = text.split()
    return [(name, value) for name, sign, value in (word.partition("=") for word in words) if sign]


def _variable(name: str, value: str, origin: Origin, start: Start) -> None:
    if name not in _DECIDING:
        return
    parts = value.split(":") if name == "PHP_INI_SCAN_DIR" else [value]
    if _UNSURE.search(value) or any(part and not part.startswith("/") for part in parts):
        start.unsure = start.unsure or origin
    else:
        start.variables[name] = value


def _variables(host: Host, path: str, start: Start, *, shell: bool) -> None:
    """A file that sets environment variables, of a unit or of a shell."""
    try:
        text = text_of(host, path, MAX_UNIT)
    except HostError:
        start.unsure = start.unsure or Origin(path)
        return
    start.files += [path] if text is not None else []
    exported = set(re.findall(r"^[ \t]*export[ \t]+(\w+)", text or "", re.M))
    for number, content in enumerate((text or "").splitlines(), 1):
        match = re.match(r"(\s*)(?:export\s+)?(\w+)=(.*)$", content)
        if match is None or match[2] not in _DECIDING or (shell and match[2] not in exported):
            continue
        value = match[3].strip()
        if shell and (match[1] or re.search(r"[;&|`]", value)):
            start.unsure = start.unsure or Origin(path, number)  # whether it comes that far is not known
            continue
        _variable(match[2], value.strip("\"'"), Origin(path, number), start)


def _defaults(host: Host, installation: Installation, start: Start) -> None:
    """What the start script of a system without systemd takes from a file of its own."""
    if managed_by_systemd(host):
        return
    for path in installation.defaults:
        _variables(host, path, start, shell=True)
        for number, content in enumerate((text_or_none(host, path) or "").splitlines(), 1):
            if match := re.match(r"DAEMON_ARGS=(.*)$", content):
                words = " ".join(shlex.split(match[1], comments=True)) if _balanced(match[1]) else "-y $"
                words = words.replace("$CONFFILE", installation.fpm_config or "")  # as the start script sets it
                command = Line("ExecStart", f"{installation.program} {words}", Origin(path, number))
                _options(host, command, installation, start)


def managed_by_systemd(host: Host) -> bool:
    """Whether systemd starts services: it does so now, or is there to do so once the system runs."""
    if host.live or host.stat("/proc/1"):  # processes run, be it in a directory that is taken for a server's root
        return host.stat("/run/systemd/system") is not None
    return any(host.stat(path) for path in _SYSTEMD)


def _balanced(text: str) -> bool:
    try:
        shlex.split(text, comments=True)
    except ValueError:
        return False
    return True


def _options(host: Host, command: Line, installation: Installation, start: Start) -> None:
    try:
        words = shlex.split(command.value.lstrip("-@:+!"))
    except ValueError:
        start.unsure = start.unsure or command.origin
        return
    program = words[0] if words else ""
    if (host.resolve(program) or program) != (host.resolve(installation.program) or installation.program):
        start.unsure = start.unsure or command.origin  # a wrapper, which may do anything
        return
    left = list(words[1:])
    while left:
        word = left.pop(0)
        name, joined, value = word.partition("=") if word.startswith("--") else (word, "", "")
        if name in _PLAIN:
            start.ignores = True
        elif name in _VALUED or word[:2] in ("-c", "-d", "-y", "-p"):
            short = _VALUED.get(name, word[:2])
            value = value if joined else word[2:] if name not in _VALUED else left.pop(0) if left else ""
            _option(short, value, command.origin, start)


def _option(name: str, value: str, origin: Origin, start: Start) -> None:
    if name == "-d":
        directive, _, given = value.partition("=")
        known = given.strip("\"'") if "=" in value else "1"
        start.defines.append(Define(directive, without_secrets(directive, known) if known != "…" else None, origin))
    elif name and (name == "-p" or not value.startswith("/") or _UNSURE.search(value)):
        start.unsure = start.unsure or origin
    elif name == "-c":
        start.ini = posixpath.normpath(value)
    elif name == "-y":
        start.fpm_config = posixpath.normpath(value)


def unit_of(host: Host, service: str) -> Unit:
    """A unit with its drop-ins.  Source: systemd.unit(5), "Unit load path"; a list is emptied by an empty line."""
    name = f"{service}.service"
    unit = Unit()
    main = next((path for folder in FOLDERS if host.stat(path := f"{folder}/{name}")), None)
    for path in ([main] if main else []) + _drop_ins(host, name):
        try:
            text = text_of(host, path, MAX_UNIT)
        except HostError:
            unit.unread = unit.unread or Origin(path)
            continue
        unit.files.append(path)
        for line in _lines(path, text or ""):
            if line.value:
                unit.found.setdefault(line.key, []).append(line)
            else:
                unit.found.pop(line.key, None)
    return unit


def _drop_ins(host: Host, name: str) -> list[str]:
    """The drop-ins of a unit in the order in which they count, by their names.

    Of several with one name that of the directory for this very unit counts, then those for the beginnings of its name
    up to a dash, then those for all services; and of each the first directory on the path.
    """
    parts = name.split("-")
    beginnings = [f"{'-'.join(parts[:length])}-.service" for length in range(len(parts) - 1, 0, -1)]
    drop_ins: dict[str, str] = {}
    for unit in (name, *beginnings, "service"):
        for folder in FOLDERS:
            directory = f"{folder}/{unit}.d"
            for entry in listed(host, directory):
                if entry.endswith(".conf"):
                    drop_ins.setdefault(entry, f"{directory}/{entry}")
    return [drop_ins[file] for file in sorted(drop_ins)[:MAX_DROP_INS]]


def _lines(path: str, text: str) -> Iterator[Line]:
    section, held, start = "", "", 0
    for number, content in enumerate(text.splitlines(), 1):
        if content.lstrip().startswith(("#", ";")):
            continue  # also in the middle of a continued line
        start = start if held else number
        if content.rstrip().endswith("\\"):
            held += content.rstrip()[:-1] + " "
            continue
        line, held = (held + content).strip(), ""
        if match := re.fullmatch(r"\[(.+)\]", line):
            section = match[1]
        elif section == "Service" and (match := re.fullmatch(r"(\w+)\s*=\s*(.*)", line)):
            yield Line(match[1], match[2], Origin(path, start))
