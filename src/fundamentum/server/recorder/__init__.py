"""The script that records a server where nothing may be installed, put together from its parts."""

import shlex
from pathlib import Path
from typing import Final

from fundamentum.catalog import HARVESTED, facts
from fundamentum.server.around import Asked
from fundamentum.server.hosts import Question
from fundamentum.server.probes import rpm

_HERE: Final = Path(__file__).parent
QUESTIONS: Final[tuple[Question, ...]] = (rpm.PACKAGES, rpm.FILES)


def script(asked: Asked | None = None) -> str:
    """A self-contained POSIX shell script.  Its result is read by :mod:`fundamentum.server.recording`."""
    known = set.intersection(*(set(facts(branch).extensions) for branch in HARVESTED))
    questions = "\n    ".join(f'{shlex.join(one.command)} >"$stage/answer-{one.name}" 2>/dev/null' for one in QUESTIONS)
    text = (_HERE / "recorder.sh").read_text("utf-8")
    for mark, content in (
        ("%RPM_QUESTIONS%", questions),
        ("%FILTER%", (_HERE / "filter.awk").read_text("utf-8").rstrip("\n")),
        ("%KNOWN%", " ".join(sorted(known))),
    ):
        text = text.replace(mark, content)
    return text
