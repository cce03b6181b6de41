"""Give a name the rights to a directory that it needs, and nobody else any; the directory is made if it is absent."""

import posixpath
from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from fundamentum.changes.base import Change
from fundamentum.changes.base import Place as Where
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import RunCommands
from fundamentum.model.surrounding_facts import Access, Place
from fundamentum.model.survey import Survey
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers


class GiveAccess(Change, frozen=True):
    """Let a name read, or read and write, in a directory and below it."""

    FILLS = "directories"
    path: str
    user: str
    letters: str
    """``rwx`` or ``r-x``; empty: the directory has to be there, no more."""
    make: bool = False

    @property
    def key(self) -> str:
        return f"access:{self.path}:{self.user}"

    @property
    def about(self) -> str:
        return self.path

    def words(self, offers: Offers) -> str:
        return self.line(offers.platform)

    def line(self, of: Platform) -> str:
        """The commands, in one line."""
        return " && ".join(of.command_line(words) for words in self.commands(of))

    def commands(self, of: Platform) -> list[list[str]]:
        """The words of each command."""
        made = [of.making_directory(self.path)] if self.make else []
        return made + ([of.grant(self.path, self.user, self.letters)] if self.letters else [])

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        places = tuple(self._given(place) for place in survey.places)
        return replace(survey, places=places)

    def _given(self, place: Place) -> Place:
        if self.make and place.kind == "absent" and self.path.startswith(f"{place.path}/"):
            return replace(place, kind="directory")
        if place.path != self.path:
            return place
        bits = sum(bit for letter, bit in zip(self.letters, (4, 2, 1), strict=False) if letter != "-")
        return replace(place, kind="directory", access=(*(place.access or ()), Access(self.user, "", bits)))

    def lowered(self, place: Where) -> Iterator[Primitive]:
        of = place.platform
        back = [tuple(of.revoke(self.path, self.user))] if self.letters and not self.make else []
        title = f"make the directory {self.path}" if self.make else f"let {self.user} use {self.path}"
        yield RunCommands(f"{posixpath.normpath(self.path)}", title, tuple(map(tuple, self.commands(of))), tuple(back))

    def row(self) -> dict[str, Any]:
        return {"path": self.path, "commands": []}
