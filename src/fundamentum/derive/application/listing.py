"""The names, sizes and times of those files in an application's directory that may count.

A tree that has not changed in what counts is recognised by this alone, and one that has not changed at all by the times
of its directories and files.  So it uses nothing but the standard library, and little of that.  Links
are not followed: what they name within the tree is met there anyway, and what lies outside is none of the
application's.
"""

import marshal
import os
import re
import time
import zlib
from collections.abc import Iterator, Sequence
from typing import Final

from fundamentum.derive.application.document_names import DOCUMENT

MAX_FILES: Final = 200_000
MAX_ENTRIES: Final = 600_000
"""Names of any kind that are looked at."""
MAX_DEPTH: Final = 40

_PHP: Final = frozenset(
    "php php3 php4 php5 php7 php8 phtml inc module install theme profile engine ctp class lib".split()
)
_PLAIN: Final = frozenset(
    "png gif jpg jpeg svg ico webp bmp js mjs ts css scss sass less map html htm tpl twig md rst po mo pot woff woff2 "
    "ttf eot otf yml yaml sql sh py pl gz zip pdf swf mp3 wav csv".split()
)
"""What most of the other files are; without these, every name would be held against the patterns."""
_NEVER: Final = frozenset({".git", ".svn", ".hg", "CVS", "node_modules"})
_OTHERS: Final = re.compile(
    r"^(?:composer\.(?:json|lock)|package2?\.xml|installed\.json|\.user\.ini|\.htaccess|.*php\.ini.*|php.*\.ini|"
    r"[\w.-]*\.htaccess[\w.-]*|htaccess[\w.-]*)$",
    re.I,
)
_LICENCE: Final = re.compile(r"(?:licen[cs]e|copying)(?:[._-].*)?", re.I)

SOURCE: Final = 1
"""May hold PHP."""
OTHER: Final = 2
"""A manifest or settings file."""
BESIDE: Final = 3
"""A document, or a sample of the configuration: read by name where it counts, and derived again when it changes."""
_BESIDE: Final = frozenset(
    "json xml yml yaml ini dist sample example default template neon toml conf env info "
    "sql cron crontab sh bash dockerfile containerfile".split()
)
_TEXTS: Final = frozenset("md markdown rst adoc asciidoc html htm txt".split())
_BESIDE_DEPTH: Final = 6
"""Directories below one another in which such files are looked for."""
_SETTLED: Final = 2_000_000_000
"""Nanoseconds after a change before the next one is sure to show in the time of a directory."""


def application_in(directory: str) -> str:
    """The only directory in another one, where an application lies in that: an archive that is unpacked beside nothing.

    Else the directory itself.
    """
    try:
        with os.scandir(directory) as entries:
            inside = [entry for entry, _ in zip(entries, range(_FEW), strict=False) if entry.name not in _NEVER]
        if len(inside) != 1 or not inside[0].is_dir(follow_symlinks=False):
            return directory
        with os.scandir(inside[0].path) as entries:
            names = {entry.name: entry.is_dir(follow_symlinks=False) for entry in entries}
        php = any(name.endswith(".php") for name in names)
        said = any(map(_OF_A_PACKAGE.fullmatch, names)) or f"{inside[0].name}.php" in names
        complete = "composer.json" in names or (php and (said or sum(names.values()) > 1))
        return inside[0].path if complete else directory
    except OSError:
        return directory


_FEW: Final = 100
_OF_A_PACKAGE: Final = re.compile(r"readme(?:\.\w+)?|(?:info|package)\.xml|\w+\.info(?:\.yml)?|plugin\.json", re.I)
"""What lies beside the code of a package of its own, a plug-in's for instance."""
Watched = Sequence[tuple[str, int, Sequence[tuple[str, int, int]]]]
"""Every directory: path, time of change; of its files that count: name, size, time of change.  Times in nanoseconds."""


def unchanged(root: str, watched: Watched) -> bool:
    """Whether the tree is as it was.  That takes less than half the time of listing it again."""
    try:
        for path, changed, files in watched:
            where = f"{root}/{path}" if path else root
            if os.lstat(where).st_mtime_ns != changed:
                return False
            for name, size, written in files:
                status = os.lstat(f"{where}/{name}")
                if status.st_mtime_ns != written or status.st_size != size:
                    return False
    except (OSError, ValueError):
        return False
    return True


def _is_beside(name: str, suffix: str) -> bool:
    known = suffix.lower() in _BESIDE or name.startswith(("Dockerfile", "Containerfile"))
    text = suffix.lower() in _TEXTS and DOCUMENT.fullmatch(name.rpartition(".")[0]) is not None
    return known or text or name == "style.css"  # a theme's, which begins as a plug-in does


class Directory:
    """One directory, with what in it may count."""

    __slots__ = ("below", "changed", "files", "library", "path")

    def __init__(self, path: str) -> None:
        self.path = path
        """From the root, with ``/``; empty for the root itself."""
        self.changed = 0
        """When a name in it came or went, in nanoseconds."""
        self.files: list[tuple[str, int, int, int]] = []
        """Name, ``SOURCE``, ``OTHER`` or ``BESIDE``, size, time of change in nanoseconds; in order of names."""
        self.below: list[Directory] = []
        """In order of names."""
        self.library = False
        """Whether it has a manifest, or a licence beside its code, as somebody else's work has."""


class Listing:
    """The tree below a directory."""

    def __init__(self, root: str) -> None:
        self.root = os.path.realpath(root)
        self.remarks: list[str] = []
        """What could not be looked at."""
        self.links = 0
        self.size = 0
        """Bytes of the files that may hold PHP."""
        self.full = False
        """Whether there are more files than in any application: the rest is not listed."""
        self._count = self._seen = 0
        self._started = time.time_ns()
        self._marks: list[tuple[str, bool, list[tuple[str, int, int, int]]]] = []
        self.top = self._directory(self.root, "", 0)
        marks = marshal.dumps(self._marks, 2)  # from version 3 on, it would depend on more than the values
        self.stamp = f"{len(marks)} {zlib.crc32(marks)} {zlib.adler32(marks)}"
        """Changes when a file comes, goes or is written."""

    def watched(self) -> Watched | None:
        """What ``unchanged`` has to know; None: it could be deceived, by something unreadable or a change just now."""
        stamps = [
            (directory.path, directory.changed, [(name, size, written) for name, _, size, written in directory.files])
            for directory in self._all(self.top)
        ]
        if self.remarks or self.full or max(changed for _, changed, _ in stamps) > self._started - _SETTLED:
            return None
        return stamps

    def _all(self, directory: Directory) -> Iterator[Directory]:
        yield directory
        for below in directory.below:
            yield from self._all(below)

    def _directory(self, where: str, path: str, depth: int) -> Directory:
        directory = Directory(path)
        names: list[str] = []
        code: list[os.DirEntry[str]] = []
        others: list[os.DirEntry[str]] = []
        files: list[os.DirEntry[str]] = []
        licence = False
        try:
            directory.changed = os.lstat(where).st_mtime_ns  # before looking: what changes meanwhile is noticed later
            with os.scandir(where) as listing:
                for entry in listing:
                    name = entry.name
                    self._seen += 1
                    if self._seen > MAX_ENTRIES:
                        self.full = True
                        break
                    if entry.is_file(follow_symlinks=False):
                        if name.endswith(".php"):
                            code.append(entry)
                            continue
                        stem, dot, suffix = name.rpartition(".")
                        text = not dot or suffix.lower() in _TEXTS
                        if name[0] in "lLcC" and _LICENCE.fullmatch(name):
                            licence = True
                        elif depth < 2 and text and DOCUMENT.fullmatch(stem if dot else name):
                            # `bin/install` without an ending may be a program as well as a text: its first bytes tell.
                            (others if dot else code).append(entry)
                        elif depth < _BESIDE_DEPTH and _is_beside(name, suffix) and not _OTHERS.match(name):
                            files.append(entry)
                        elif suffix in _PLAIN:
                            continue
                        elif _OTHERS.match(name):
                            others.append(entry)
                        elif suffix.lower() in _PHP if dot else depth < 4:
                            code.append(entry)
                    elif entry.is_dir(follow_symlinks=False):
                        names.append(name)
                    elif entry.is_symlink():
                        self.links += 1
        except OSError as error:
            self.remarks.append(f"{path or '.'} cannot be read: {error.strerror}")
        if code or others or files:
            kinds = ((code, SOURCE), (others, OTHER), (files, BESIDE))
            directory.files = sorted(status for those, kind in kinds for status in self._status(those, kind, path))
            directory.library = (licence and any(e.name.endswith(".php") for e in code)) or any(
                e.name in ("composer.json", "package.xml") for e in others
            )
            self._marks.append((path, directory.library, directory.files))
            self._count += len(directory.files)
            self.full = self.full or self._count > MAX_FILES
        names.sort()
        for name in names:
            if name in _NEVER or self.full:
                continue
            here = f"{path}/{name}" if path else name
            if depth >= MAX_DEPTH:
                self.remarks.append(f"{here} is nested too deeply: passed over")
            else:
                directory.below.append(self._directory(f"{where}/{name}", here, depth + 1))
        return directory

    def _status(self, entries: "list[os.DirEntry[str]]", kind: int, path: str) -> Iterator[tuple[str, int, int, int]]:
        for entry in entries:
            try:
                status = entry.stat(follow_symlinks=False)
            except OSError as error:
                self.remarks.append(f"{path}/{entry.name} cannot be read: {error.strerror}".lstrip("/"))
            else:
                self.size += status.st_size if kind == SOURCE else 0
                yield entry.name, kind, status.st_size, status.st_mtime_ns
