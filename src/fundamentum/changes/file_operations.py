"""Files as operations: one that is written whole from lines of several changes, and one in which lines change."""

import shlex
from typing import Final, Self

import msgspec
from msgspec.structs import replace

from fundamentum.changes.primitives import Primitive
from fundamentum.platforms.base import Platform

_UNENDED: Final = "\\ No newline at end of file"


class Line(msgspec.Struct, frozen=True):
    """One line of a file that is written whole."""

    text: str
    group: int = 0
    """Lines come in the order of their groups; those of the group 9 in the order of their names."""
    name: str = ""
    """Of the lines of one group and one name the first that is :attr:`planned` stands."""
    planned: bool = True
    """False: it is there already, and is kept."""
    weak: bool = False
    """It gives way to another line of its group and name."""


class WriteFile(Primitive, frozen=True):
    """Write a whole file, from lines of several changes."""

    KIND = "file"
    ORDER = 5
    path: str
    head: str
    lines: tuple[Line, ...]

    @property
    def title(self) -> str:
        return f"write {self.path}"

    @property
    def content(self) -> str:
        """The file, each line ended."""
        kept: dict[tuple[int, str], Line] = {}
        for number, line in enumerate(self.lines):
            place = (line.group, line.name or f"\0{number:08}")
            there = kept.get(place)
            if there is None or (line.planned and not line.weak and (there.weak or not there.planned)):
                kept[place] = line
        order = sorted(kept, key=lambda place: (place[0], place[1] if place[0] == 9 else ""))
        return "\n".join([self.head, *(kept[place].text for place in order)]) + "\n"

    def merged(self, other: Self) -> Self:
        return replace(self, lines=(*self.lines, *other.lines))

    def commands(self, platform: Platform) -> list[str]:
        lines = shlex.join(self.content.splitlines())
        return [f"printf '%s\\n' {lines} > {shlex.quote(self.path)}"]

    def undone(self, platform: Platform) -> list[str]:
        """A file of which lines were there already takes more than a command."""
        return [shlex.join(["rm", self.path])] if all(line.planned or line.group == 1 for line in self.lines) else []


class Hunk(msgspec.Struct, frozen=True):
    """What changes at one line of a file that is there."""

    line: int
    """Counted from one.  Without an ``old`` text, ``added`` comes behind it."""
    old: str | None
    stretches: tuple[tuple[int, int, str], ...] = ()
    """Parts of the line, from one character to before another, and what stands there afterwards."""
    added: tuple[str, ...] = ()
    unended: bool = False
    """Whether the file ends with it, and without a newline."""

    @property
    def new(self) -> str:
        """The line as it is afterwards."""
        line = self.old or ""
        for start, end, text in sorted(set(self.stretches), reverse=True):
            line = line[:start] + text + line[end:]
        return line


class EditFile(Primitive, frozen=True):
    """Change single lines of a file that is there."""

    KIND = "edit"
    ORDER = 6
    path: str
    hunks: tuple[Hunk, ...]
    in_document_root: bool = False
    """Whether it stands among an application's own files, in a directory that may be somebody else's than root's."""
    copied_from: str = ""
    """The file that is copied there first, and has those lines; empty: the file is there."""

    @property
    def title(self) -> str:
        if self.copied_from:
            return f"copy {self.copied_from} to {self.path}, and change it"
        return f"change {self.path}"

    def merged(self, other: Self) -> Self:
        inside = self.in_document_root or other.in_document_root
        return replace(self, hunks=(*self.hunks, *other.hunks), in_document_root=inside)

    def _merged_hunks(self) -> list[Hunk]:
        """The hunks from the top of the file on, those of one line as one."""
        lines: dict[tuple[int, bool], Hunk] = {}
        for hunk in dict.fromkeys(self.hunks):
            place = (hunk.line, hunk.old is None)
            lines[place] = _together(lines[place], hunk) if place in lines else hunk
        return [hunk for _, hunk in sorted(lines.items())]

    def lines(self) -> list[tuple[int, str | None, tuple[str, ...]]]:
        """The number of each line that changes, the line as it is, and those that stand there afterwards; None for the
        line as it is: behind it come new ones."""
        return [
            (hunk.line, hunk.old, hunk.added if hunk.old is None else (hunk.new, *hunk.added))
            for hunk in self._merged_hunks()
        ]

    @property
    def diff(self) -> str:
        """The change as a unified diff."""
        out, shift = [f"--- {self.copied_from or self.path}", f"+++ {self.path}"], 0
        for hunk in self._merged_hunks():
            out += _written(hunk, shift)
            shift += len(hunk.added)
        return "\n".join(out) + "\n"

    def commands(self, platform: Platform) -> list[str]:
        """What comes before the diff."""
        return [platform.command_line(platform.copying(self.copied_from, self.path))] if self.copied_from else []

    def undone(self, platform: Platform) -> list[str]:
        if self.copied_from:
            return [platform.command_line(platform.removing(self.path))]
        return [f"printf '%s\\n' {shlex.join(self.diff.splitlines())} | patch -R {shlex.quote(self.path)}"]


def _together(hunk: Hunk, two: Hunk) -> Hunk:
    """Two changes of one line, each of its own stretch of the line as it stands."""
    return replace(hunk, stretches=(*hunk.stretches, *two.stretches), added=(*hunk.added, *two.added))


def _written(hunk: Hunk, shift: int) -> list[str]:
    """A hunk of a unified diff."""
    if hunk.old is None:
        many = f",{len(hunk.added)}" if len(hunk.added) > 1 else ""
        head = f"@@ -{hunk.line},0 +{hunk.line + shift + 1}{many} @@"
        return [head, *(f"+{line}" for line in hunk.added)]
    many = f",{1 + len(hunk.added)}" if hunk.added else ""
    out = [f"@@ -{hunk.line} +{hunk.line + shift}{many} @@"]
    if hunk.new == hunk.old and not hunk.unended:
        out.append(f" {hunk.old}")
    else:
        out += [f"-{hunk.old}", *([_UNENDED] if hunk.unended else []), f"+{hunk.new}"]
    return [*out, *(f"+{line}" for line in hunk.added), *([_UNENDED] if hunk.unended else [])]
