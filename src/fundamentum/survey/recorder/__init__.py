"""The script that records a server where nothing may be installed, put together from its parts."""

import re
import textwrap
from collections.abc import Iterable
from pathlib import Path
from typing import Final

from fundamentum import webservers
from fundamentum.catalog import HARVESTED, facts
from fundamentum.catalog.suppliers import packages_of
from fundamentum.hosts import processes
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.surrounding_facts import Asked
from fundamentum.platforms import names, parts, platform, text_of
from fundamentum.survey.probes import sandboxes
from fundamentum.survey.probes.asked_answers import SOCKET, TEXT
from fundamentum.webservers import webserver

PATH: Final = lazy_regex(r"[A-Za-z0-9_.@+/-]+")
VARIABLE: Final = lazy_regex(r"[A-Za-z_][A-Za-z0-9_]*")
COMMAND: Final = lazy_regex(r"[A-Za-z0-9_.+-]+")
_HERE: Final = Path(__file__).parent


def script(asked: Asked | None = None) -> str:
    """A self-contained POSIX shell script.  Its result is read by :mod:`fundamentum.hosts.recording`."""
    text = (_HERE / "recorder.sh").read_text("utf-8")
    for mark, content in {**_marks_of_entries(), **_marks_of(asked)}.items():
        text = text.replace(f"%{mark}%", content)
    return text


def _marks_of_entries() -> dict[str, str]:
    """What the platforms and the web servers want to be taken along."""
    on = [platform(name) for name in names()]
    behind = [webserver(name) for name in webservers.names()]
    recorded = [*(family.recorded for family in on), *(server.recorded for server in behind)]
    configuration = [folder for server in behind for folder in server.configuration]
    shared = ("/var/www", "/usr/share", *(path for server in behind for path in server.shared_roots))
    answers = [part.answers() for part in parts("recorder", "answers")]
    return {
        "HERE": _joined(
            (
                *(path for recorded_part in recorded for path in recorded_part.here),
                *(family.socket_dir for family in on),
            )
        ),
        "BELOW": _joined((*(path for recorded_part in recorded for path in recorded_part.below), *configuration)),
        "EXTENSIONS": _joined(path for recorded_part in recorded for path in recorded_part.extensions),
        "ENVIRONMENTS": " ".join(path for server in behind for path in server.environment),
        "CONFIGURATION": _joined(configuration),
        "READ": _joined((*(path for family in on for path in family.configuration), *configuration)),
        "BODIES": _joined(path for server in behind for path in server.bodies),
        "SHARED": " | ".join(shared),
        "PROCESSES": "|".join(
            (processes.MANAGER, *(text for server in behind for text in (server.process, server.worker) if text))
        ),
        "PATHS": textwrap.indent(_fragments("recorder_paths.sh"), "    ").rstrip("\n"),
        "CONTENTS": _fragments("recorder_contents.sh"),
        "ROOTS": " ".join((*(server.root_directive.lower() for server in behind if server.root_directive), "alias")),
        "BODY_FOLDERS": " ".join(server.body_folder for server in behind if server.body_folder),
        "DIRECTORY_FILES": " ".join(server.directory_file for server in behind if server.directory_file),
        "UNITS": " ".join(
            dict.fromkeys(("php", *(unit for recorded_part in recorded for unit in recorded_part.units)))
        ),
        "ANSWERS": "\n".join(answers),
    }


def _marks_of(asked: Asked | None) -> dict[str, str]:
    """What applications ask about, and what is known of extensions beforehand."""
    wanted = asked or Asked()
    packages = packages_of(wanted.commands) | set(wanted.packages)
    packages |= {platform(name).cron_package for name in names()} if wanted.tasks else set()
    known = set.intersection(*(set(facts(branch).extensions) for branch in HARVESTED))
    return {
        "FILTER": _filter(),
        "KNOWN": " ".join(sorted(known - set(wanted.modules))),
        "ASKED": "yes" if asked else "",
        "DIRECTORIES": _words(wanted.directories, PATH),
        "COMMANDS": _words(wanted.commands, COMMAND),
        "TASKS": _words(wanted.tasks, PATH),
        "PACKAGES": _words(sorted(packages), COMMAND),
        "TEXTS": _words(wanted.texts, TEXT),
        "OPTIONS": "yes" if wanted.options else "",
        "LOCALES": "yes" if wanted.locales else "",
        "SOCKETS": _words(wanted.sockets, SOCKET),
        "VARIABLES": "|".join((*processes.VARIABLES, *(name for name in wanted.variables if VARIABLE.fullmatch(name)))),
    }


def _fragments(file: str) -> str:
    """What the platforms add to a part of the script."""
    return "".join(text_of(name, file) for name in names())


def _filter() -> str:
    """The program for awk that tells what of each file may leave the server, with what each entry says of its own."""
    entries = {name: text_of(name, "recorder.awk") for name in names()}
    entries |= {name: webservers.text_of(name, "recorder.awk") for name in webservers.names()}
    entries = {name: text for name, text in entries.items() if text}
    kinds = [f'    if ((kind = {name}_kind(path)) != "") return kind' for name in entries]
    beginnings = [f"    {name}_begin()" for name, text in entries.items() if f"function {name}_begin(" in text]
    lines = [f'    if (sub(/^{name}:/, "", kind)) return {name}_filtered(line, kind)' for name in entries]
    functions = (
        ("function kind_by_entry(path,   kind) {", *kinds, '    return ""', "}"),
        ("function begin_entries() {", *beginnings, "}"),
        ("function filtered_by_entry(line, kind) {", *lines, '    return ""', "}"),
    )
    texts = (
        (_HERE / "filter.awk").read_text("utf-8"),
        *entries.values(),
        *("\n".join(function) for function in functions),
    )
    return "\n\n".join(text.strip("\n") for text in texts).replace("%SANDBOXES%", "|".join(sandboxes.KEYS))


def _joined(patterns: Iterable[str]) -> str:
    """Shell patterns of paths, each once, on lines of their own."""
    return " \\\n        ".join(dict.fromkeys(patterns))


def _words(words: Iterable[str], shape: re.Pattern[str]) -> str:
    """Words for the script, each held to a shape in which nothing has to be quoted."""
    return " ".join(word for word in words if shape.fullmatch(word))
