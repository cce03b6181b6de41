"""The programs that IIS starts for FastCGI, and what it starts them with.

Source: Microsoft's reference of IIS configuration (``fastCgi/application``): an application is known by its path and
its arguments, and a handler has to name both.
"""

from collections.abc import Sequence
from typing import Any, Final

import msgspec

from fundamentum.hosts.base import Host
from fundamentum.hosts.processes import VARIABLES
from fundamentum.hosts.windows_directory import windows_path
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.layers import Layer
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Limit
from fundamentum.webservers.iis.levels import Level, elements

_WORD: Final = lazy_regex(r'"([^"]*)"|(\S+)')


class Processor(msgspec.Struct, frozen=True):
    """What a handler hands requests to."""

    text: str
    """The program as it is written."""
    program: str
    """The program as a path here."""
    arguments: str = ""


class Started(msgspec.Struct):
    """What a program is started with, as far as it decides which files PHP reads."""

    ini_path: str = ""
    variables: dict[str, str] = msgspec.field(default_factory=dict)
    layers: list[Layer] = msgspec.field(default_factory=list)
    """What is not followed, so that nothing is known of what PHP is set to."""


def processor(host: Host, text: str) -> Processor:
    """The program and the arguments of ``scriptProcessor``."""
    program, _, arguments = text.partition("|")
    program = program.strip().strip('"')
    return Processor(program, windows_path(host, program, "/"), arguments.strip())


def application(host: Host, levels: Sequence[Level], handed: Processor) -> tuple[Level, Any] | None:
    """The FastCGI application that a handler means; None if it is not set up."""
    for level, element in elements(levels, "fastCgi/application"):
        same = windows_path(host, element.get("fullPath", ""), "/").lower() == handed.program.lower()
        if same and (element.get("arguments") or "").strip() == handed.arguments:
            return level, element
    return None


def started(host: Host, levels: Sequence[Level], handed: Processor) -> Started:
    """The arguments and the environment of a program."""
    start = Started()
    meant = application(host, levels, handed)
    origin = Origin(meant[0].file, meant[1].sourceline) if meant else Origin(handed.program)
    _arguments(host, handed, origin, start)
    if meant is None:
        return start
    level, element = meant
    for variable in element.iterfind("environmentVariables/environmentVariable"):
        name, value = variable.get("name", ""), variable.get("value", "")
        if name not in VARIABLES:
            continue
        here = [windows_path(host, part, "/") if part else "" for part in value.split(";")]
        if any("%" in part for part in here):
            where = Origin(level.file, variable.sourceline)
            start.layers.append(Layer("start", (), where, f"{name} holds a variable whose value is not known"))
        else:
            start.variables[name] = ";".join(here)
    return start


def _arguments(host: Host, handed: Processor, origin: Origin, start: Started) -> None:
    """Source: php-cgi's own list of options (``-c``)."""
    words = [match[1] if match[2] is None else match[2] for match in _WORD.finditer(handed.arguments)]
    while words:
        word = words.pop(0)
        if word == "-c" and words:
            start.ini_path = windows_path(host, words.pop(0), "/")
        elif word.startswith("-c") and len(word) > 2:
            start.ini_path = windows_path(host, word[2:].strip('"'), "/")
        else:
            start.layers.append(Layer("start", (), origin, f"php-cgi.exe is started with {word[:40]}"))
            return


def times(meant: tuple[Level, Any] | None) -> tuple[Limit, ...]:
    """How long a program may be silent, and how long a request may take, in seconds."""
    limits = []
    for name, usual in (("activityTimeout", "30"), ("requestTimeout", "90")):
        value = meant[1].get(name) if meant else None
        origin = (Origin(meant[0].file, meant[1].sourceline),) if meant and value else ()
        limits.append(Limit(name, value or usual, *origin))
    return tuple(limits)
