"""Open lists: a room is a package in which each module, or folder, is one entry; nothing else lists them.

Entries, and parts of an entry that only some commands need, are imported when they are asked for: here, and nowhere
else.  The tests add entries of their own by a further directory on the room's ``__path__``.
"""

import importlib
import importlib.util
import pkgutil
import sys
from collections.abc import Collection
from functools import cache
from pathlib import Path
from types import ModuleType


def names(room: str, besides: Collection[str] = ()) -> tuple[str, ...]:
    """The names of a room's entries, in order.  ``besides`` are its modules that are none."""
    return tuple(name for name in _modules(tuple(sys.modules[room].__path__)) if name not in besides)


@cache
def _modules(path: tuple[str, ...]) -> tuple[str, ...]:
    """The modules in these directories, each of which is listed once."""
    return tuple(sorted(module.name for module in pkgutil.iter_modules(path)))


def entry(room: str, name: str) -> ModuleType:
    """The module of an entry."""
    return importlib.import_module(f"{room}.{name}")


def part(room: str, name: str, what: str) -> ModuleType:
    """A part of an entry: the module of that name in the entry's folder; the entry's own module where it has none."""
    module = entry(room, name)
    inner = f"{module.__name__}.{what}"
    found = hasattr(module, "__path__") and importlib.util.find_spec(inner) is not None
    return importlib.import_module(inner) if found else module


def text_of(room: str, name: str, file: str) -> str:
    """A text that belongs to an entry: that file in its folder, or ``NAME_FILE`` beside its module; empty if none."""
    module = Path(entry(room, name).__file__ or "")
    path = module.with_name(file if module.stem == "__init__" else f"{name}_{file}")
    return path.read_text("utf-8") if path.is_file() else ""
