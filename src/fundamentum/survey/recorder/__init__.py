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
from fundamentum.model.surroundings import Asked
from fundamentum.platforms import names, parts, platform, shell_of
from fundamentum.webservers import webserver

PATH: Final = re.compile(r"[A-Za-z0-9_.@+/-]+")
COMMAND: Final = re.compile(r"[A-Za-z0-9_.+-]+")
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
    recorded = [*(one.recorded for one in on), *(one.recorded for one in behind)]
    configuration = [folder for one in behind for folder in one.configuration]
    shared = ("/var/www", "/usr/share", *(path for one in behind for path in one.shared_roots))
    fragments = [fragment for name in names() if (fragment := shell_of(name, "recorder_paths"))]
    answers = [part.answers() for part in parts("recorder", "answers")]
    return {
        "HERE": _joined(path for one in recorded for path in one.here),
        "BELOW": _joined((*(path for one in recorded for path in one.below), *configuration)),
        "EXTENSIONS": _joined(path for one in recorded for path in one.extensions),
        "CONFIGURATION": _joined(configuration),
        "READ": _joined((*(path for one in on for path in one.configuration), *configuration)),
        "BODIES": _joined(path for one in behind for path in one.bodies),
        "SHARED": " | ".join(shared),
        "PROCESSES": "|".join((processes.MANAGER, *(one.process for one in behind if one.process))),
        "PATHS": textwrap.indent("".join(fragments), "    ").rstrip("\n"),
        "ANSWERS": "\n".join(answers),
    }


def _marks_of(asked: Asked | None) -> dict[str, str]:
    """What applications ask about, and what is known of extensions beforehand."""
    wanted = asked or Asked()
    packages = packages_of(wanted.commands, wanted.products)
    packages |= {platform(name).cron_package for name in names()} if wanted.tasks else set()
    known = set.intersection(*(set(facts(branch).extensions) for branch in HARVESTED))
    return {
        "FILTER": (_HERE / "filter.awk").read_text("utf-8").rstrip("\n"),
        "KNOWN": " ".join(sorted(known)),
        "ASKED": "yes" if asked else "",
        "DIRECTORIES": _words(wanted.directories, PATH),
        "COMMANDS": _words(wanted.commands, COMMAND),
        "TASKS": _words(wanted.tasks, PATH),
        "PACKAGES": _words(sorted(packages), COMMAND),
    }


def _joined(patterns: Iterable[str]) -> str:
    """Shell patterns of paths, each once, on lines of their own."""
    return " \\\n        ".join(dict.fromkeys(patterns))


def _words(words: Iterable[str], shape: re.Pattern[str]) -> str:
    """Words for the script, each held to a shape in which nothing has to be quoted."""
    return " ".join(word for word in words if shape.fullmatch(word))
