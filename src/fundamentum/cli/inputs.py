"""What the words on the command line refer to: applications, servers, output files."""

import argparse
import os
from pathlib import Path

from fundamentum.errors import InputError
from fundamentum.needs.file import SUFFIX, load
from fundamentum.needs.model import Needs
from fundamentum.server.model import Survey
from fundamentum.server.reference import look


def application(word: str) -> Needs:
    """A needs file, or the one needs file in a directory."""
    path = Path(word)
    if path.is_dir():
        found = sorted(path.glob(f"*{SUFFIX}"))
        if len(found) != 1:
            what = (
                "holds no needs file"
                if not found
                else "holds several needs files: " + ", ".join(one.name for one in found)
            )
            raise InputError(word, f"{what}; name one *{SUFFIX}")
        path = found[0]
    return load(path)


def server(options: argparse.Namespace) -> Survey:
    """The survey of the server that the options name."""
    return look(options.server, sudo=options.sudo, ask_pools=options.ask_pools)


def write_below(folder: str, path: str, content: bytes) -> None:
    """Write a file of a server below a folder of one's own, with the directories that it takes."""
    target = Path(folder, os.path.normpath("/" + path).lstrip("/"))
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(str(target.parent), f"cannot be made: {error.strerror}") from error
    write_whole(str(target), content)


def write_whole(target: str, content: bytes) -> None:
    """Write a file whole or not at all: into a new file beside it, which then takes its place."""
    path = Path(target)
    if path.exists() and not path.is_file():
        with path.open("wb") as stream:  # a device or pipe cannot be replaced
            stream.write(content)
        return
    import tempfile  # noqa: PLC0415 — slow to import, and most runs write no file

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
