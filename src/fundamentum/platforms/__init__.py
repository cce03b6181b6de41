"""On which kind of system a server runs: one file for each, found by its name and loaded when it is asked for.

What differs from one family of systems to the other stands there; check, plan and report ask the entry.
An entry is a module with a ``PLATFORM``; adding one touches no other file.
"""

import importlib
import pkgutil
from functools import cache

from fundamentum.platforms.base import Platform

UNKNOWN = "unknown"


def names() -> frozenset[str]:
    """The platforms that there are."""
    return frozenset(one.name for one in pkgutil.iter_modules(__path__) if one.name != "base")


@cache
def platform(name: str) -> Platform:
    """The platform of that name, as a survey's system has it; the unknown one where there is none."""
    found = importlib.import_module(f"{__name__}.{name if name in names() else UNKNOWN}").PLATFORM
    assert isinstance(found, Platform)
    return found
