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


def start_of(host: Host, installation: Installation) -> Start:
    """How this PHP is started, where it runs as a service."""
    found = Start()
    if installation.sapi in ("fpm", "apache2") and installation.service:
        _of_service(host, installation, found)
    return found


def _of_service(host: Host, installation: Installation, found: Start) -> None:
    commands: list[_Line] = []
    for line in _unit(host, installation.service or "", found):
        match line.key:
            case "ExecStart" if not line.value:
                commands.clear()
            case "ExecStart":
                commands.append(line)
            case "Environment":
                found.unsure = found.unsure or _decides(line.value, line.origin)
            case "EnvironmentFile":
                _file(host, line, found)
    if installation.sapi != "fpm":
        for path in webserver(installation.sapi).environment:
            _variables(host, path, found)
        return
    for command in commands:
        _options(command, installation, found)


def _file(host: Host, line: _Line, found: Start) -> None:
    _variables(host, line.value.lstrip("-").strip(), found)


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


def _unit(host: Host, service: str, found: Start) -> Iterator[_Line]:
    """The lines of a unit and of its drop-ins, in the order in which they count."""
    name = f"{service}.service"
    main = next((path for folder in FOLDERS if host.stat(path := f"{folder}/{name}")), None)
    drop_ins: dict[str, str] = {}
    for folder in reversed(FOLDERS):
        for directory in (f"{folder}/service.d", f"{folder}/{name}.d"):
            drop_ins |= {one: f"{directory}/{one}" for one in listed(host, directory) if one.endswith(".conf")}
    for path in ([main] if main else []) + [drop_ins[one] for one in sorted(drop_ins)[:MAX_DROP_INS]]:
        try:
            text = text_of(host, path, MAX_UNIT)
        except HostError:
            found.unsure = found.unsure or Origin(path)
            continue
        yield from _lines(path, text or "")


def _lines(path: str, text: str) -> Iterator[_Line]:
    section, held, start = "", "", 0
    for number, content in enumerate(text.splitlines(), 1):
        start = start if held else number
        if content.rstrip().endswith("\\"):
            held += content.rstrip()[:-1] + " "
            continue
        line, held = (held + content).strip(), ""
        if match := re.fullmatch(r"\[(.+)\]", line):
            section = match[1]
        elif section == "Service" and (match := re.fullmatch(r"(\w+)\s*=\s*(.*)", line)):
            yield _Line(match[1], match[2], Origin(path, start))
