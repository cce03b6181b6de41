"""Make a directory, or change to whom a directory or file belongs and who may do what there: no more than is needed."""

import posixpath
import shlex
from collections.abc import Iterator
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.changes.base import Change
from fundamentum.changes.base import Place as Where
from fundamentum.changes.primitives import Own, Primitive
from fundamentum.effective.file_access import account_named
from fundamentum.model.surrounding_facts import Grant, Place
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers

PRIVATE: Final = 0o750
_BITS: Final = {"r": 4, "w": 2, "x": 1, "-": 0}


class ArrangeDirectory(Change, frozen=True):
    """Make a directory or file what it has to be for one user."""

    FILLS = "directories"
    path: str
    user: str
    """The user who needs it."""
    make: bool = False
    empty_file: bool = False
    """Whether an empty file is made, rather than a directory."""
    owner: str | None = None
    group: str | None = None
    mode: int | None = None
    grants: tuple[tuple[str, str], ...] = ()
    """Entries for the user in access lists: path and letters (``rwx``)."""
    opened: tuple[tuple[str, int], ...] = ()
    """Directories on the way, and the mode with which they can be passed through."""
    label: str | None = None
    """The SELinux type it has to have."""

    @property
    def key(self) -> str:
        return f"directory:{self.path}"

    @property
    def about(self) -> str:
        return self.path

    def words(self, offers: Offers) -> str:
        return self.command_line

    @property
    def command_line(self) -> str:
        """The commands, in one line."""
        return " && ".join(shlex.join(words) for words in self.operation().argv())

    def operation(self, before: tuple[Place, ...] = ()) -> Own:
        """What is done; ``before`` are the places as they are now."""
        return Own(
            self.path,
            self.user,
            self.make,
            self.owner,
            self.group,
            (self.mode or PRIVATE) if self.make else self.mode,
            self.opened,
            self.grants,
            self.label,
            before,
            self.empty_file,
        )

    def lowered(self, place: Where) -> Iterator[Primitive]:
        concerned = {self.path, *(path for path, _ in (*self.opened, *self.grants))}
        before = (directory for directory in place.survey.places if (directory.real or directory.path) in concerned)
        yield self.operation(tuple(before))

    def row(self) -> dict[str, Any]:
        return {"path": self.path, "commands": [shlex.join(words) for words in self.operation().argv()]}

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        places = {place.path: place for place in survey.places}
        account = account_named(survey, self.user)
        for path in _leading_to(self.path, places):
            places[path] = self._arranged(places[path], survey)
        if self.make:
            above = posixpath.dirname(self.path)
            while above != "/" and above in places and places[above].kind == "absent":
                places[above] = replace(places[above], kind="directory", mode=0o755)
                above = posixpath.dirname(above)
        for opened, mode in self.opened:
            places |= {path: replace(places[path], mode=mode) for path in _leading_to(opened, places)}
        for granted, letters in self.grants:
            bits = sum(_BITS[letter] for letter in letters)
            grant = Grant("user", account.user if account else -1, bits)
            places |= {path: _granted(places[path], grant) for path in _leading_to(granted, places)}
        return replace(survey, places=tuple(places[path] for path in sorted(places)))

    def _arranged(self, place: Place, survey: Survey) -> Place:
        account = account_named(survey, self.user)
        users = {"root": 0} | ({account.name: account.user} if account else {})
        return replace(
            place,
            kind=("file" if self.empty_file else "directory") if self.make else place.kind,
            user=users.get(self.owner or "", place.user),
            owner=self.owner or place.owner,
            group=account.groups[0] if self.group and account else place.group,
            mode=place.mode if self.mode is None else self.mode,
            label=f"system_u:object_r:{self.label}:s0" if self.label else place.label,
        )


def _leading_to(path: str, places: dict[str, Place]) -> list[str]:
    return [at for at, place in places.items() if (place.real or at) == path]


def _granted(place: Place, grant: Grant) -> Place:
    """With one more entry in the access list.  Source: setfacl(1): the mask is widened to hold every entry."""
    others = [
        known for known in place.grants if known.kind != "mask" and (known.kind, known.id) != (grant.kind, grant.id)
    ]
    if not any(other.kind == "owning-group" for other in others):
        others.append(Grant("owning-group", 0, place.mode >> 3 & 7))
    mask = 0
    for entry in (*others, grant):
        mask |= entry.bits
    mode = place.mode & ~0o070 | mask << 3
    return replace(place, grants=(*others, grant, Grant("mask", 0, mask)), mode=mode)
