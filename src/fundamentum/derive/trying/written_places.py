"""Directories of an application in which it writes files, as far as their paths are known where it does.

``file_put_contents(CACHE . "/$name.json", $data)``, where another file says ``define('CACHE', __DIR__ . '/cache')``.
"""

import posixpath
import re
from typing import Any, Final

from fundamentum.derive.statements.wishes import DIRECTORIES
from fundamentum.derive.statements.written_files import PLACES
from fundamentum.derive.trying.commands import known_beginning
from fundamentum.derive.trying.directories import HERE
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.values import OneOf

WRITING: Final = {name: at for name, at in {**DIRECTORIES, **PLACES}.items() if not name.startswith("is_")}
"""Functions that write, and which of their arguments is the place."""
_OF_DIRECTORIES: Final = frozenset({"mkdir", "session_save_path", "tempnam"})
"""Those of them that are given a directory, the others a file in it."""
_FOR_WRITING: Final = re.compile(r"[waxc]")
"""With what a file is opened to be written."""
_PATH: Final = re.compile(r"[\w./-]{1,120}")


def written_to(machine: Machine, name: str, part: Part, given: Given) -> str:
    """The directory to which a call writes, from the application's root on; empty: it is not known, or elsewhere."""
    at, arguments = WRITING[name], part.get("arguments")
    parts = [kid.kids[-1] for kid in arguments.kids if kid.kids] if arguments is not None else []
    if len(parts) <= at or (name == "fopen" and not _opened_for_writing(given.at(1))):
        return ""
    if name == "error_log" and given.at(1) != 3:
        return ""
    target: Any = given.at(at)
    if isinstance(target, OneOf):
        target = next((value for value in target.values if isinstance(value, str)), None)
    path = target if isinstance(target, str) else known_beginning(machine, parts[at])
    if not path.startswith(f"{HERE}/"):
        return ""
    if not isinstance(target, str) or name not in _OF_DIRECTORIES:
        path = path.rpartition("/")[0]
    directory = posixpath.normpath(path.removeprefix(HERE).lstrip("/"))
    inside = directory != "." and not directory.startswith("..") and _PATH.fullmatch(directory)
    return directory if inside else ""


def _opened_for_writing(mode: Any) -> bool:
    return isinstance(mode, str) and _FOR_WRITING.match(mode) is not None
