"""Open lists: a room is a package in which each module, or folder, is one entry; nothing else lists them.

Entries, and parts of an entry that only some commands need, are imported when they are asked for: here, and nowhere
else.  The tests add entries of their own by a further directory on the room's ``__path__``.
"""

import importlib
import os
import sys
from collections.abc import Collection
from functools import cache
from types import ModuleType


def names(room: str, besides: Collection[str] = ()) -> tuple[str, ...]:
    """The names of a room's entries, in order.  ``besides`` are its modules that are none."""
    return tuple(name for name in _modules(tuple(sys.modules[room].__path__)) if name not in besides)


@cache
def _modules(folders: tuple[str, ...]) -> tuple[str, ...]:
    """The modules, and the packages, in these directories, each of which is listed once."""
    modules: set[str] = set()
    for folder in folders:
        for file in os.listdir(folder) if os.path.isdir(folder) else ():
            name, ending = os.path.splitext(file)
            package = not ending and os.path.isfile(os.path.join(folder, file, "__init__.py"))
            modules |= {name} if name.isidentifier() and (ending == ".py" or package) else set()
    return tuple(sorted(modules - {"__init__"}))


def entry(room: str, name: str) -> ModuleType:
    """The module of an entry."""
    return importlib.import_module(f"{room}.{name}")


def part(room: str, name: str, what: str) -> ModuleType:
    """A part of an entry: the module of that name in the entry's folder; the entry's own module where it has none."""
    module = entry(room, name)
    known = what in _modules(tuple(getattr(module, "__path__", ())))
    return importlib.import_module(f"{module.__name__}.{what}") if known else module


def text_of(room: str, name: str, file: str) -> str:
    """A text that belongs to an entry: that file in its folder, or ``NAME_FILE`` beside its module; empty if none."""
    folder, module = os.path.split(entry(room, name).__file__ or "")
    path = os.path.join(folder, file if module == "__init__.py" else f"{name}_{file}")
    if not os.path.isfile(path):
        return ""
    with open(path, encoding="utf-8") as text:
        return text.read()
