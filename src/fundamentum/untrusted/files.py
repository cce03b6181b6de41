"""Files that a user names on the command line."""

import itertools
import os
import stat
from pathlib import Path
from typing import Final

from fundamentum import entries
from fundamentum.errors import InputError


def _flags(*names: str) -> int:
    """Flags for opening a file, as far as this system has them."""
    return sum(getattr(os, name, 0) for name in names)


PLAINLY: Final = os.O_RDONLY | _flags("O_NONBLOCK", "O_CLOEXEC", "O_BINARY")
"""Not blocking, so that a named pipe in the way cannot hold us."""
UNFOLLOWED: Final = PLAINLY | _flags("O_NOFOLLOW")
"""The same for a file that has to stand there itself, rather than a link."""


MAX_BESIDE: Final = 5000
"""Names of a directory among which a misspelt one is looked for."""


def named(word: str, what: str = "a file") -> Path:
    """The path that a user gave; an empty word is an error, for as a path it would be the current directory."""
    if not word:
        raise InputError("''", f"is empty; give the path of {what}")
    try:
        if b"\0" in os.fsencode(word):
            raise InputError(word, "is no path")
    except UnicodeEncodeError as error:
        raise InputError(ascii(word), "is no path") from error
    return Path(word)


def read_named(path: Path, most: int, what: str, where: str | None = None) -> bytes:
    """The whole content of a file, at most ``most`` bytes.

    A named pipe is read to its end, as the shell's ``<(...)`` makes one; an endless device is refused.  ``what`` says
    what the file is not if it is larger: ``a needs file``.
    """
    shown = str(path) if where is None else where
    try:
        with path.open("rb") as stream:
            mode = os.fstat(stream.fileno()).st_mode
            if stat.S_ISDIR(mode):
                raise InputError(shown, f"is a directory, not {what}")
            if stat.S_ISBLK(mode) or (stat.S_ISCHR(mode) and not stream.isatty()):
                raise InputError(shown, f"is a device, not {what}")
            data = stream.read(most + 1)
    except FileNotFoundError as error:
        raise InputError(shown, f"cannot be read: {error.strerror}{_beside(path)}") from error
    except OSError as error:
        raise InputError(shown, f"cannot be read: {error.strerror or error}") from error
    except ValueError as error:
        raise InputError(shown, f"cannot be read: {error}") from error
    if len(data) > most:
        raise InputError(shown, f"larger than {most} bytes: not {what}")
    return data


def _beside(path: Path) -> str:
    """A file of almost that name in the same directory, which may have been meant."""
    try:
        with os.scandir(path.parent) as names:
            known = [entry.name for entry in itertools.islice(names, MAX_BESIDE)]
    except OSError:
        return ""
    suggestion: str = entries.entry("fundamentum.catalog", "near").did_you_mean(path.name, known)
    return suggestion


def read_below(root: Path, path: str, most: int) -> bytes:
    """The first ``most`` bytes of a file of an application; an ``OSError`` where it is no plain file, or a link."""
    handle = os.open(root / path, UNFOLLOWED)
    with open(handle, "rb") as stream:
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            raise OSError(0, "is no plain file")
        return stream.read(most)
