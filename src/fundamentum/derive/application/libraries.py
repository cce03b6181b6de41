"""Bundled libraries, and the names by which the code around them calls them."""

import re
from collections import defaultdict
from collections.abc import Iterable, Mapping
from pathlib import PurePosixPath
from typing import Final

import msgspec

from fundamentum.derive.application.tree import SourceFile

MAX_NAMES: Final = 4000
MAX_DIRECTORIES: Final = 40
_AFFIXES: Final = re.compile(r"^class[.-]|\.class$|\.inc$")
_EVERYDAY: Final = frozenset(
    "index main init common config autoload functions function utils util helper helpers base class classes core "
    "library libraries vendor version default exception error interface abstract test example setup install admin "
    "file files data type types string array list item node text html http client server request response user".split()
)
"""Names of files and directories that say nothing about whose they are."""


class LibraryNames(msgspec.Struct, frozen=True):
    """Names, and the libraries that each stands for."""

    classes: Mapping[bytes, frozenset[str]] = {}
    """In lower case: a library's files are called as their classes are."""
    directories: Mapping[bytes, frozenset[str]] = {}
    """As they stand in the path of an ``include``."""


def names_of_libraries(files: Iterable[SourceFile]) -> LibraryNames:
    """The names by which the bundled libraries among the files are called."""
    classes: dict[bytes, set[str]] = defaultdict(set)
    directories: dict[bytes, set[str]] = defaultdict(set)
    for file in files:
        if file.part != "bundled" or not file.library:
            continue
        stem = _AFFIXES.sub("", PurePosixPath(file.path).stem)
        if _telling(stem) and len(classes) < MAX_NAMES:
            classes[stem.lower().encode("utf-8", "surrogateescape")].add(file.library)
        last = file.library.rpartition("/")[2]
        if _telling(last) and len(directories) < MAX_DIRECTORIES:
            directories[last.encode("utf-8", "surrogateescape")].add(file.library)
    return LibraryNames(
        {name: frozenset(namespaces) for name, namespaces in classes.items()},
        {name: frozenset(directory) for name, directory in directories.items()},
    )


def _telling(name: str) -> bool:
    return len(name) > 3 and name.lower() not in _EVERYDAY
