"""On which kind of system a server runs: one file for each, found by its name and loaded when it is asked for.

What differs from one family of systems to the other stands there; check, plan and report ask the entry.
An entry is a module with a ``PLATFORM``, and nothing lists them.  Which probes read a platform's packages, and where
its PHP stands, is told in ``survey/observe.py`` and ``server/layouts``.
"""

import importlib
import pkgutil
from collections.abc import Sequence
from functools import cache

from fundamentum.hosts.base import Host
from fundamentum.platforms.base import Platform

UNKNOWN = "unknown"


def names() -> frozenset[str]:
    """The platforms that there are."""
    return frozenset(
        one.name for one in pkgutil.iter_modules(__path__) if one.name not in ("base", "windows_layout", "source_build")
    )


@cache
def platform(name: str) -> Platform:
    """The platform of that name, as a survey's system has it; the unknown one where there is none."""
    found = importlib.import_module(f"{__name__}.{name if name in names() else UNKNOWN}").PLATFORM
    assert isinstance(found, Platform)
    return found


def recognised(host: Host, own: str, like: Sequence[str]) -> tuple[str, str | None]:
    """The platform of a server, and how it was told where the server does not name it itself.

    ``own`` and ``like`` are the words of ``ID`` and ``ID_LIKE``.  A package database alone tells nothing: other
    kinds of systems use the same one with other paths and other commands.
    """
    for name in sorted(names()):
        if own in platform(name).ids and platform(name).has_database(host):
            return name, None
    for name in sorted(names()):
        of = platform(name)
        said = next((word for word in like if word in of.ids), None)
        if (said or not own) and of.has_database(host) and any(host.stat(path) for path in of.marks):
            why = f"says to be like {said}" if said else "does not say what it is"
            return name, f"treated as one of the {of.title}: it {why}, and has its package database and paths"
    return UNKNOWN, None
