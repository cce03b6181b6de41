"""Let a program be run at set times."""

from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from fundamentum.catalog.cron import interval
from fundamentum.changes.base import Change, Place
from fundamentum.changes.file_operations import Line, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Scheduled
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class ScheduleTask(Change, frozen=True):
    """Add a line for cron."""

    FILLS = "tasks"
    command: str
    line: str
    file: str

    @property
    def key(self) -> str:
        return f"schedule:{self.file}:{self.command}"

    @property
    def about(self) -> str:
        return self.command

    def words(self, offers: Offers) -> str:
        return f"let cron run it: {self.line} in {self.file}"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        fields = self.line.split()
        run = fields[:5:-1]  # the program, and the PHP in front of it
        task = Scheduled(self.command, Origin(self.file, 1), fields[5], interval(fields[:5]), *run)
        return replace(survey, tasks=(*survey.tasks, task))

    def lowered(self, place: Place) -> Iterator[Primitive]:
        head = f"# What {place.label} has to run at set times, as planned by fundamentum."
        yield WriteFile(self.file, head, (Line(self.line),))

    def row(self) -> dict[str, Any]:
        return {"command": self.command, "line": self.line, "file": self.file}
