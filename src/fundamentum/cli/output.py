"""Files that are written: whole, or not at all."""

import os
from pathlib import Path

from fundamentum.errors import InputError
from fundamentum.untrusted.files import named


def write_below(folder: str, path: str, content: bytes) -> None:
    """Write a file of a server below a folder of one's own, with the directories that it takes."""
    target = Path(named(folder, "the folder to write to"), os.path.normpath("/" + path).lstrip("/"))
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(str(target.parent), f"cannot be made: {error.strerror}") from error
    write_whole(str(target), content)


def write_whole(target: str, content: bytes) -> None:
    """Write a file whole or not at all: into a new file beside it, which then takes its place."""
    import tempfile  # noqa: PLC0415 — slow to import, and most runs write to the screen

    path = named(target, "the file to be written")
    if path.exists() and not path.is_file():
        with path.open("wb") as stream:  # a device or pipe cannot be replaced
            stream.write(content)
        return
    try:
        descriptor, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    except OSError as error:
        raise InputError(target, f"cannot be written: {error.strerror}") from error
    try:
        with open(descriptor, "wb") as stream:
            stream.write(content)
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(name, 0o666 & ~mask)
        os.replace(name, path)
    except OSError as error:
        Path(name).unlink(missing_ok=True)
        raise InputError(target, f"cannot be written: {error.strerror}") from error
