"""PHP's functions with which a program looks at its own classes and files."""

import fnmatch
import posixpath
from collections.abc import Iterator
from typing import Any, Final

from fundamentum.derive.trying.builtins import named
from fundamentum.derive.trying.directories import HERE
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.values import UNKNOWN, Array, Instance, Kind

MAX_NAMES: Final = 100
"""Methods of a class, files of a directory: programs that go through more of them look for something else."""
MAX_PATTERN: Final = 120
"""Characters in the pattern of a path."""


def _kind(machine: Machine, value: Any) -> Kind | None:
    if isinstance(value, Instance):
        return value.kind
    return machine.kind_of(value.rpartition("\\")[2].lower()) if isinstance(value, str) else None


@named("get_class_methods")
def _methods(machine: Machine, given: Given) -> Any:
    """``foreach (get_class_methods($this) as $method)``: a check in each of them."""
    kind = _kind(machine, given.at(0))
    if kind is None or not kind.whole:
        return UNKNOWN
    names: dict[str, str] = {}
    for ancestor in kind.line():
        for lower, part in ancestor.methods.items():
            name = part.get("name")
            names.setdefault(lower, name.text if name is not None else lower)
    return Array.of(list(names.values())[:MAX_NAMES])


@named("method_exists")
def _has_method(machine: Machine, given: Given) -> Any:
    kind, name = _kind(machine, given.at(0)), given.at(1)
    if kind is None or not isinstance(name, str):
        return UNKNOWN
    return machine.method(kind, name)[0] is not None or (False if kind.whole else UNKNOWN)


@named("glob")
def _matching(machine: Machine, given: Given) -> Any:
    """``foreach (glob(__DIR__ . '/checks/*.php') as $file)``: those that came with the application."""
    pattern = given.at(0)
    if not isinstance(pattern, str) or not pattern.startswith(HERE) or len(pattern) > MAX_PATTERN:
        return UNKNOWN
    plain = posixpath.normpath(pattern.removeprefix(HERE).lstrip("/"))
    directory, _, shape = plain.rpartition("/")
    fitting = [name for name in _files(machine, directory) if fnmatch.fnmatchcase(name, shape)]
    return _paths(directory, fitting) if fitting and not set("*?[{") & set(directory) else UNKNOWN


@named("scandir")
def _listed(machine: Machine, given: Given) -> Any:
    """The names in a directory, as far as they are those of source files: what is read of it skips any other."""
    path = given.at(0)
    if not isinstance(path, str) or not path.startswith(HERE):
        return UNKNOWN
    names = list(_files(machine, posixpath.normpath(path.removeprefix(HERE).lstrip("/"))))
    return Array(dict(enumerate(sorted(names)[:MAX_NAMES])), loose=True) if names else UNKNOWN


def _files(machine: Machine, directory: str) -> Iterator[str]:
    """The names of the source files that lie in a directory itself."""
    within = "" if directory in ("", ".") else f"{directory}/"
    for path in machine.program.paths:
        if path.startswith(within) and "/" not in (name := path[len(within) :]):
            yield name


def _paths(directory: str, names: list[str]) -> Array:
    return Array.of(posixpath.join(HERE, directory, name) for name in sorted(names)[:MAX_NAMES])
