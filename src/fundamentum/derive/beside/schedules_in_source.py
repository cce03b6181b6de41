"""Lines for cron that stand in an application's source, as the comment above a script has them.

``// */10 * * * * php /srv/nightlog/cron.php``
"""

from collections.abc import Iterator, Sequence
from typing import Final

from fundamentum.derive.application.tree import Each, SourceFile
from fundamentum.derive.result import Entry, Place
from fundamentum.prose.line import MAX_LENGTH, Line
from fundamentum.prose.readers import tasks

_MARK: Final = b"* * "
"""What stands in nearly every line for cron, and in little else."""
MAX_LINES: Final = 200
"""Such lines of one file that are looked at."""


def scheduled_in_source(each: Each, files: Sequence[SourceFile]) -> Iterator[Entry]:
    """The scripts that the application's own files say are to be run at set times."""
    own = [file for file in files if file.part == "own"]
    for file, lines in each(_lines_for_cron, own, None):
        for number, script, times, said in lines:
            place = Place(file.path, number, said)
            yield Entry("task", (script,), "recommended", times, f"{file.path} says", (place,))


def _lines_for_cron(data: bytes, _: object) -> list[tuple[int, str, str, str]]:
    """Line, script, times and text of each line for cron in one file."""
    lines: list[tuple[int, str, str, str]] = []
    behind = 0
    for _turn in range(MAX_LINES):
        at = data.find(_MARK, behind)
        if at < 0:
            break
        start = data.rfind(b"\n", behind, at) + 1 or behind
        end = data.find(b"\n", at)
        behind = end if end >= 0 else len(data)
        said = data[start:behind][:MAX_LENGTH].decode("utf-8", "replace").strip().lstrip("/# ")
        for statement in tasks.read(Line(said, 1)):  # with its stars: one may be the first field
            number = data.count(b"\n", 0, start) + 1
            lines.append((number, statement.key, str(statement.value), said))
    return lines
