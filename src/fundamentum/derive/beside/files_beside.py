"""Files beside an application's code, of some directories, that may tell what it needs."""

import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Final

from fundamentum.untrusted.files import read_below

MAX_SIZE: Final = 64 * 1024
MAX_NAMES: Final = 5000
"""Names in one directory that are looked at."""


def files_in(root: str, base: str, folders: Iterable[str]) -> Iterator[tuple[str, str]]:
    """Folder, and path of each file in it, in order of names; ``base`` is where the application begins."""
    for folder in folders:
        inside = "/".join(part for part in (base.strip("/"), folder) if part)
        try:
            with os.scandir(f"{root}/{inside}") as entries:
                names = [entry.name for entry, _ in zip(entries, range(MAX_NAMES), strict=False)]
        except OSError:
            continue
        yield from ((folder, f"{inside}/{name}".lstrip("/")) for name in sorted(names))


def texts_of(root: str, paths: Iterable[str]) -> Iterator[tuple[str, str]]:
    """Path and content of each file that can be read and is not larger than such files are."""
    for path in paths:
        try:
            yield path, read_below(Path(root), path, MAX_SIZE).decode("utf-8", "replace")
        except OSError:
            continue


def line_at(text: str, at: int) -> int:
    """The line that a place is on, from 1 on."""
    return text.count("\n", 0, at) + 1
