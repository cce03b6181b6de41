"""An application's files, and what part of the application each belongs to."""

from pathlib import Path
from typing import Literal

import msgspec

from fundamentum.untrusted.files import read_below

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


def content_of(root: str, file: SourceFile) -> bytes:
    """A source file's bytes; none where it is gone, or may not be read."""
    try:
        return read_below(Path(root), file.path, file.size + 1)
    except OSError:
        return b""
