"""What the words on the command line refer to: applications, servers, output files."""

import os
from pathlib import Path

from fundamentum.errors import InputError
from fundamentum.needs.file import SUFFIX, load
from fundamentum.needs.model import Needs
from fundamentum.server.hosts import DirectoryHost, this_machine
from fundamentum.server.model import Survey
from fundamentum.server.survey import read, survey

MAX_SURVEY = 256 * 1024 * 1024
ROOT_SIGNS = ("etc/os-release", "usr/lib/os-release", "var/lib/dpkg/status", "etc/php")


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


def server(word: str | None) -> Survey:
    """A survey of the machine itself, of a root file system, or from a file."""
    if word is None:
        return survey(this_machine())
    if "://" in word:
        raise InputError(
            word.partition("://")[0] + "://…",
            "servers cannot be reached by address; survey there with 'fundamentum survey -o FILE' and give that file",
        )
    path = Path(word)
    if path.is_dir():
        if not any((path / sign).exists() or (path / sign).is_symlink() for sign in ROOT_SIGNS):
            raise InputError(word, f"is no root file system: none of {', '.join(ROOT_SIGNS)} is below it")
        return survey(DirectoryHost(path, path.resolve().name or "root", live=str(path.resolve()) == "/"))
    try:
        with path.open("rb") as stream:
            data = stream.read(MAX_SURVEY + 1)
    except OSError as error:
        raise InputError(word, f"cannot be read: {error.strerror}") from error
    if len(data) > MAX_SURVEY:
        raise InputError(word, f"larger than {MAX_SURVEY} bytes; not a survey")
    return read(data, word)


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
