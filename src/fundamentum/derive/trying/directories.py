"""Directories of which a program asks whether it may write there: asked for as extensions are, by their paths.

``if (!is_writable(ROOT . '/data')) die(...)``: what the program does where it may not is what comes of it.
"""

import posixpath
import re
from typing import Any, Final

from fundamentum.derive.statements.host_functions import OF_DIRECTORY

RIGHTS: Final = "fileperms"
ASKING: Final = frozenset({"is_writable", "is_writeable", "is_really_writable", RIGHTS})
"""Functions that ask, of PHP's and of frameworks."""
ALL_RIGHTS: Final = 0o40777
NO_RIGHTS: Final = 0o40555
HERE: Final = "/@"
"""Stands for the application's directory in paths."""
_OF_ROOT: Final = re.compile(
    r"\$?(?:(?:project|base|application)_?(?:root|dir(?:ectory)?|path|folder)|root(?:_?(?:dir(?:ectory)?|path|folder))?)",
    re.I,
)
"""How what holds the path of the application's directory is called, where nobody is seen to give it."""
_PATH: Final = re.compile(r"[\w./-]{1,120}")
_FILE: Final = re.compile(r"[^/]\.[A-Za-z]\w{1,6}$")
"""A name that ends as those of files do.  A program may ask for one of these because it should not be writable."""


def of_root(name: str) -> bool:
    """Whether a property holds the application's directory, by its name."""
    return _OF_ROOT.fullmatch(name) is not None


def asked_as(value: Any, entry: str | None) -> str:
    """What a directory is called among what is asked for: its path, and a slash.

    ``entry``: the file from which ``./`` and ``../`` lead, if that is known.  Empty: it is none of the application's
    directories, or may be a file.  With a slash at its beginning it leads from the root; else from where the program
    runs, which is the root or the directory of a page.
    """
    if not isinstance(value, str):
        return ""
    if value.startswith(HERE):
        path = value.removeprefix(HERE).lstrip("/")
    elif value.startswith("."):
        path = posixpath.join(posixpath.dirname(entry), value) if entry is not None else ""
    else:
        path = value
    path = posixpath.normpath(path)
    if path in ("", ".") or path.startswith(("/", "..")) or not _PATH.fullmatch(path) or _FILE.search(path):
        return ""
    return f"{'/' if value.startswith((HERE, '.')) else ''}{path}{OF_DIRECTORY}"
