"""How PHP is started, as far as it decides which configuration is read: units of systemd, and Apache's environment.

Sources: systemd.unit(5), systemd.service(5) and systemd.exec(5) on search path, drop-ins and resets; php-fpm(8) on its
options; php.net, "The configuration file", on ``PHPRC`` and ``PHP_INI_SCAN_DIR``.
"""

import posixpath
import re
import shlex
from collections.abc import Iterator
from typing import Final

import msgspec

from fundamentum.hosts.base import Host, HostError, listed, text_of
from fundamentum.model.installation import Installation
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
_PLAIN: Final = {"-n": "-n", "--no-php-ini": "-n"}


class Define(msgspec.Struct, frozen=True):
    """A directive set on the command line, stronger than every file."""

    name: str
    value: str | None
    origin: Origin


class Start(msgspec.Struct):
    """What the way in which a PHP is started says about its configuration."""

    defines: list[Define] = msgspec.field(default_factory=list)
    unsure: Origin | None = None
    """A line because of which other files than the usual ones are read."""


class _Line(msgspec.Struct, frozen=True):
    key: str
    value: str
    origin: Origin


class Unit(msgspec.Struct):
    """What is set for a service."""

    found: dict[str, list[_Line]] = msgspec.field(default_factory=dict)
    unread: Origin | None = None
    """A file of it that could not be read."""

    def lines(self, key: str) -> list[_Line]:
        """The lines of one setting that are in effect, in order."""
        return self.found.get(key, [])


def start_of(host: Host, installation: Installation) -> Start:
    """How this PHP is started, where it runs as a service."""
    found = Start()
    if installation.sapi in ("fpm", "apache2") and installation.service:
        _of_service(host, installation, found)
    return found


def _of_service(host: Host, installation: Installation, found: Start) -> None:
    unit = unit_of(host, installation.service or "")
    found.unsure = unit.unread
    for line in unit.lines("Environment"):
        found.unsure = found.unsure or _decides(line.value, line.origin)
    for line in unit.lines("EnvironmentFile"):
        _variables(host, line.value.lstrip("-").strip(), found)
    if installation.sapi != "fpm":
        for path in webserver(installation.sapi).environment:
            _variables(host, path, found)
        return
    for command in unit.lines("ExecStart"):
        _options(command, installation, found)


def _variables(host: Host, path: str, found: Start) -> None:
    """A file that sets environment variables, of a unit or of a shell."""
    try:
        text = text_of(host, path, MAX_UNIT)
    except HostError:
        found.unsure = found.unsure or Origin(path)
        return
    for number, content in enumerate((text or "").splitlines(), 1):
        found.unsure = found.unsure or _decides(content, Origin(path, number))


def _decides(text: str, origin: Origin) -> Origin | None:
    """The line, if it sets a variable that decides which configuration is read."""
    names = re.findall(r"(?:^|[\s\"'])([A-Z_]+)=", text)
    return origin if _DECIDING.intersection(names) and not text.lstrip().startswith("#") else None


def _options(command: _Line, installation: Installation, found: Start) -> None:
    try:
        words = shlex.split(command.value.lstrip("-@:+!"))
    except ValueError:
        found.unsure = found.unsure or command.origin
        return
    left = list(words[1:])
    while left:
        word = left.pop(0)
        name, joined, value = word.partition("=") if word.startswith("--") else (word, "", "")
        if name in _PLAIN:
            found.unsure = found.unsure or command.origin
        elif name in _VALUED or word[:2] in ("-c", "-d", "-y", "-p"):
            short = _VALUED.get(name, word[:2])
            value = value if joined else word[2:] if name not in _VALUED else left.pop(0) if left else ""
            _option(short, value, command.origin, installation, found)


def _option(name: str, value: str, origin: Origin, installation: Installation, found: Start) -> None:
    if name == "-d":
        directive, _, given = value.partition("=")
        known = given.strip("\"'") if "=" in value else "1"
        found.defines.append(Define(directive, without_secrets(directive, known) if known != "…" else None, origin))
    elif name == "-y" and installation.fpm_config and posixpath.normpath(value) == installation.fpm_config:
        return
    elif name:
        found.unsure = found.unsure or origin


def unit_of(host: Host, service: str) -> Unit:
    """A unit with its drop-ins.  Source: systemd.unit(5), "Unit load path"; a list is emptied by an empty line."""
    name = f"{service}.service"
    found = Unit()
    main = next((path for folder in FOLDERS if host.stat(path := f"{folder}/{name}")), None)
    for path in ([main] if main else []) + _drop_ins(host, name):
        try:
            text = text_of(host, path, MAX_UNIT)
        except HostError:
            found.unread = found.unread or Origin(path)
            continue
        for line in _lines(path, text or ""):
            if line.value:
                found.found.setdefault(line.key, []).append(line)
            else:
                found.found.pop(line.key, None)
    return found


def _drop_ins(host: Host, name: str) -> list[str]:
    """The drop-ins of a unit in the order in which they count, by their names.

    Of several with one name that of the directory for this very unit counts, then those for the beginnings of its name
    up to a dash, then those for all services; and of each the first directory on the path.
    """
    parts = name.split("-")
    beginnings = [f"{'-'.join(parts[:length])}-.service" for length in range(len(parts) - 1, 0, -1)]
    found: dict[str, str] = {}
    for unit in (name, *beginnings, "service"):
        for folder in FOLDERS:
            directory = f"{folder}/{unit}.d"
            for one in listed(host, directory):
                if one.endswith(".conf"):
                    found.setdefault(one, f"{directory}/{one}")
    return [found[one] for one in sorted(found)[:MAX_DROP_INS]]


def _lines(path: str, text: str) -> Iterator[_Line]:
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
            yield _Line(match[1], match[2], Origin(path, start))
