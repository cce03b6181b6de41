"""The script that records a server where nothing may be installed, put together from its parts."""

import re
import shlex
from collections.abc import Iterable
from pathlib import Path
from typing import Final

from fundamentum.catalog import HARVESTED, facts
from fundamentum.catalog.suppliers import packages_of
from fundamentum.hosts.base import Question
from fundamentum.model.surroundings import Asked
from fundamentum.platforms.redhat import rpm

PATH: Final = re.compile(r"[A-Za-z0-9_.@+/-]+")
COMMAND: Final = re.compile(r"[A-Za-z0-9_.+-]+")
_HERE: Final = Path(__file__).parent
QUESTIONS: Final[tuple[Question, ...]] = (rpm.PACKAGES, rpm.FILES)


def script(asked: Asked | None = None) -> str:
    """A self-contained POSIX shell script.  Its result is read by :mod:`fundamentum.hosts.recording`."""
    known = set.intersection(*(set(facts(branch).extensions) for branch in HARVESTED))
    questions = "\n    ".join(f'{shlex.join(one.command)} >"$stage/answer-{one.name}" 2>/dev/null' for one in QUESTIONS)
    wanted = asked or Asked()
    packages = packages_of(wanted.commands, wanted.products) | ({"cron", "cronie"} if wanted.tasks else set())
    text = (_HERE / "recorder.sh").read_text("utf-8")
    for mark, content in (
        ("%RPM_QUESTIONS%", questions),
        ("%FILTER%", (_HERE / "filter.awk").read_text("utf-8").rstrip("\n")),
        ("%KNOWN%", " ".join(sorted(known))),
        ("%RPM_OWNERS%", shlex.join(rpm.OWNERS)),
        ("%ASKED%", "yes" if asked else ""),
        ("%DIRECTORIES%", _words(wanted.directories, PATH)),
        ("%COMMANDS%", _words(wanted.commands, COMMAND)),
        ("%TASKS%", _words(wanted.tasks, PATH)),
        ("%PACKAGES%", _words(sorted(packages), COMMAND)),
    ):
        text = text.replace(mark, content)
    return text


def _words(words: Iterable[str], shape: re.Pattern[str]) -> str:
    """Words for the script, each held to a shape in which nothing has to be quoted."""
    return " ".join(word for word in words if shape.fullmatch(word))
