"""What deriving comes to: every need with its evidence."""

from collections.abc import Iterable
from typing import Literal

import msgspec

from fundamentum.model.needs_value import Level


class Place(msgspec.Struct, frozen=True, array_like=True):
    """One place that tells of a need."""

    path: str
    line: int
    what: str
    how: str = ""
    """What stands around it, in words; empty for a plain use."""

    def __str__(self) -> str:
        return f"{self.path}:{self.line}" if self.line else self.path


Kind = Literal[
    "php", "build", "extension", "absent", "library", "feature", "loader", "setting", "uploads", "database",
    "service", "function", "command", "directory", "host", "task", "web_module", "unread",
]  # fmt: skip
"""What a need is of."""


class Entry(msgspec.Struct, frozen=True, array_like=True):
    """One need, with the reason for it and for its level."""

    kind: Kind
    names: tuple[str, ...]
    """Several: any one of them is enough."""
    level: Level
    value: str
    """For PHP, an extension, a library the version range, for a setting the condition, as a needs file writes them."""
    rule: str
    """Why it has this level, in words."""
    places: tuple[Place, ...]
    """The most telling first."""
    files: int = 0
    """In how many files of the application its words stand."""
    way: Literal["", "command_line"] = ""
    """For which way of running PHP it is needed; empty: for each."""

    @property
    def key(self) -> str:
        """``extension:gd|imagick``, as needs files and findings name it."""
        kind = {"build": "php", "web_module": "web:module"}.get(self.kind, self.kind)
        return "php" if self.kind == "php" else f"{kind}:{'|'.join(self.names)}"


def advised_branch(branch: str, rule: str, place: Place) -> Entry:
    """That one branch of PHP is to be chosen where several fit; ``8.3+``: or a later one."""
    return Entry("build", ("preferred",), "recommended", branch, rule, (place,))


class Derived(msgspec.Struct, frozen=True, array_like=True):
    """An application's needs, as found in its tree."""

    name: str
    version: str
    entries: tuple[Entry, ...]
    left_out: tuple[Entry, ...]
    """What was seen and is no need, with the reason: so that nobody has to wonder."""
    files: int
    size: int
    """Bytes of PHP source that were looked at."""
    parsed: int
    """Files that were parsed; in the others no word tells anything."""
    remarks: tuple[str, ...]

    def of_kind(self, kind: str) -> tuple[Entry, ...]:
        """The entries of one kind."""
        return tuple(entry for entry in self.entries if entry.kind == kind)

    def with_remarks(self, remarks: Iterable[str]) -> "Derived":
        """The same, with remarks of whoever found the tree before those of its reading."""
        return msgspec.structs.replace(self, remarks=(*remarks, *self.remarks))


def packed(derived: Derived) -> bytes:
    """All of it, for :func:`unpacked`."""
    return msgspec.msgpack.encode(derived)


def unpacked(data: bytes) -> Derived:
    """What :func:`packed` made."""
    return msgspec.msgpack.decode(data, type=Derived)
