"""What every kind of change tells, and what it is asked with."""

from collections.abc import Iterator, Sequence
from typing import Any, ClassVar, Self

import msgspec

from fundamentum.catalog.setting_line import in_a_word
from fundamentum.changes.primitives import Primitive
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers


class Place(msgspec.Struct, frozen=True):
    """Where changes are carried out: the server as surveyed, its platform, and whom they are made for."""

    survey: Survey
    platform: Platform
    label: str
    """The applications, for the heading of files that are written."""


class Change(msgspec.Struct, frozen=True, tag_field="change", tag=True):
    """One thing that can be done to a server.

    It is a demand too (:class:`~fundamentum.model.findings.Demand`), of which nothing is left to decide.
    """

    FILLS: ClassVar[str] = ""
    """The table of a plan's JSON in which it has a row (:meth:`row`), beside that of all changes."""
    FIRST: ClassVar[bool] = False
    """Whether it has its effect before all others, as packages do."""
    lacking: ClassVar[bool] = True

    @property
    def file(self) -> str:
        """The file that it is written in; empty where there is none."""
        return ""

    @property
    def key(self) -> str:
        """What it changes: two changes of one key are one (:meth:`joined`), and its reasons are kept under it."""
        raise NotImplementedError

    @property
    def about(self) -> str:
        """What it is about, in a word or two."""
        raise NotImplementedError

    @property
    def effect(self) -> str:
        """What becomes of it, to be shown beside :attr:`about`; empty where that says it all."""
        return ""

    def words(self, offers: Offers) -> str:
        """What a person would do, in a line: a command, or the line and the file it goes into."""
        raise NotImplementedError

    def joined(self, other: Self) -> Self:
        """Of two of one key, the one that serves both."""
        return self

    def settled(self, label: str, survey: Survey, demands: Sequence[Any]) -> "Change | None":
        """Itself: nothing about it is left to decide."""
        return self

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        """The server once it has been carried out."""
        raise NotImplementedError

    def concerns(self, runtime: Runtime) -> bool:
        """Whether that runtime has to be restarted for it."""
        return False

    def services(self, platform: Platform) -> Iterator[tuple[str, str]]:
        """Other services that have to read it, each with what has to be done: ``start``, ``restart`` or ``reload``."""
        yield from ()

    def lowered(self, place: Place) -> Iterator[Primitive]:
        """The operations that carry it out."""
        yield from ()

    def consequence(self, place: Place) -> str:
        """What a person has to know or decide about it; empty where there is nothing."""
        return ""

    def row(self) -> dict[str, Any]:
        """Its row in the table :attr:`FILLS`."""
        return {}


class NewValue(Change, frozen=True):
    """A change that gives something of a name another value."""

    name: str
    before: str | None
    after: str

    @property
    def about(self) -> str:
        return self.name

    @property
    def effect(self) -> str:
        return f"{in_a_word(self.name, self.before or '')} -> {self.after or 'empty'}"

    @property
    def least(self) -> int:
        """What it has to allow, where it is a limit, in bytes or seconds."""
        return 0

    def joined(self, other: Self) -> Self:
        return other if other.least > self.least else self

    def row(self) -> dict[str, Any]:
        row: dict[str, Any] = {"name": self.name, "from": self.before, "to": self.after, "file": self.file or None}
        return row | {"site": getattr(self, "site", None), "runtime": getattr(self, "runtime", None)}
