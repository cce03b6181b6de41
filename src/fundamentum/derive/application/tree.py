"""An application's files, and what part of the application each belongs to."""

import os
import stat
from collections.abc import Callable, Iterable, Iterator
from pathlib import PurePosixPath
from typing import Literal, Protocol, TypeVar

import msgspec

Part = Literal["own", "optional", "bundled", "aside"]
"""The application's own code; a part of it that is chosen (a driver, a plugin); a library that came with it; tests,
examples, documentation and tools for developers."""


class SourceFile(msgspec.Struct, frozen=True, gc=False):
    """One file that may hold PHP."""

    path: str
    """From the application's root, with ``/``."""
    size: int
    part: Part
    library: str = ""
    """For bundled code: the directory of the library."""


class Tree(msgspec.Struct, frozen=True):
    """What an application's directory holds."""

    root: str
    sources: tuple[SourceFile, ...]
    others: tuple[str, ...]
    """Paths of manifests and settings files."""
    remarks: tuple[str, ...]
    base: str = ""
    """The directory below the root where the application itself begins, and its manifest lies."""
    unread: str = ""
    """Why not all of its files stand here; empty: they do."""


Given = TypeVar("Given")
Result = TypeVar("Result")


class Each(Protocol):
    """Does some work on the content of each of several files, in several processes, as far as there is time.

    ``work``: a function of a module, given a content and ``given``; what it comes to is told with the file, in order.
    """

    def __call__(
        self, work: Callable[[bytes, Given], Result], files: Iterable[SourceFile], given: Given
    ) -> Iterator[tuple[SourceFile, Result]]: ...


def has_directory(root: str, path: str) -> bool:
    """Whether an application has a directory of that path, and no link leads to it."""
    where = root
    for part in PurePosixPath(path).parts:
        where = f"{where}/{part}"
        try:
            if part == ".." or not stat.S_ISDIR(os.lstat(where).st_mode):
                return False
        except (OSError, ValueError):
            return False
    return path not in ("", ".")
