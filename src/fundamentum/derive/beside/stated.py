"""What the manifests of an application state."""

import msgspec

from fundamentum.derive.beside.platform_packages import Demand
from fundamentum.model.constraints import EVERYTHING, Interval
from fundamentum.model.needs_value import Level


class Stated(msgspec.Struct, frozen=True):
    """One statement of a manifest about an extension."""

    extension: str
    level: Level
    by: str
    """Who states it: the application itself, or the library that came with it."""
    where: str
    """File, and line where it is known."""
    why: str = ""


class Manifest(msgspec.Struct, frozen=True):
    """All that the manifests of one application state."""

    name: str = ""
    version: str = ""
    php: str = ""
    """The application's own constraint on PHP, as written."""
    php_where: str = ""
    accepted: tuple[Interval, ...] = (EVERYTHING,)
    """What it accepts, and every installed library with it."""
    statements: tuple[Stated, ...] = ()
    demands: tuple[Demand, ...] = ()
    """What is stated of the platform beyond extensions by name."""
    provided: tuple[tuple[str, str], ...] = ()
    """Extension, and the package that replaces or provides it."""
    development: frozenset[str] = frozenset()
    """Directories of libraries for development only."""
    stated: frozenset[str] = frozenset()
    """Directories of libraries that state their own needs."""
    remarks: tuple[str, ...] = ()
    of_libraries: tuple[tuple[str, str], ...] = ()
    """What installed libraries accept of PHP, as written and where, as far as it says more: the narrowest first."""
    brought: frozenset[str] = frozenset()
    """Branches of PHP of which a library brings what is new in them, for older ones."""


def lowest_stated(manifest: Manifest) -> str:
    """The lowest branch of PHP that the manifests accept; empty: they accept any."""
    low = manifest.accepted[0].low[:2] if manifest.accepted else (0, 0)
    return f"{low[0]}.{low[1]}" if low > (0, 0) else ""
