"""A remark: what could not be read on a server, and what is therefore unknown."""

from typing import Final, Literal

from fundamentum.model.safe_text import Text
from fundamentum.model.survey_fact import Fact

RemarkKind = Literal[
    "FPM pools",
    "PHP",
    "PHP branch",
    "PHP branches",
    "asking pools",
    "configuration",
    "distribution",
    "extension files",
    "file names",
    "information page",
    "installed packages",
    "package indexes",
    "package preferences",
    "packages",
    "running services",
    "scheduled tasks",
    "surroundings",
    "this server",
    "version",
    "web sites",
]
_WITH_SUBJECT: Final = {"PHP": "PHP in {}", "PHP branch": "PHP {}", "version": "version of {}"}


class Remark(Fact, frozen=True):
    """Something that could not be read, or was read only in part: what is therefore unknown, and why."""

    about: RemarkKind
    why: Text
    subject: Text = ""
    """The program, directory or branch it is about, where it is about one."""

    @property
    def title(self) -> str:
        """What it is about, in words."""
        return _WITH_SUBJECT.get(self.about, "{}").format(self.subject) if self.subject else self.about
