"""Facts about PHP itself: branches, extensions, directives and their built-in defaults.

Only what cannot be read from a server is kept here.  The values were harvested from real builds (7.4, 8.2 and
8.4) by ``tools/harvest_catalog.py``; between two harvested branches a fact is known where both agree.
"""

import itertools
import re
import tomllib
from collections.abc import Mapping
from datetime import date
from functools import cache
from pathlib import Path
from typing import Any, Final

import msgspec

from fundamentum.catalog.quantity import quantity

_HERE: Final = Path(__file__).parent
HARVESTED: Final = ("7.4", "8.2", "8.4")


class Directive(msgspec.Struct, frozen=True):
    """One ini directive: the extension that brings it, where it may be set, and its built-in default."""

    owner: str
    access: int
    """Bits: 1 in scripts, 2 per directory, 4 in the system's files only."""
    default: str
    sapis: tuple[str, ...] | None = None
    """The ways of running PHP that know it; None: all."""
    refuses_empty: bool = False
    """Whether it keeps its default where a file sets it to nothing."""


class Extension(msgspec.Struct, frozen=True):
    """One extension file of Debian's packages, by the file's name."""

    shown: str
    zend: bool
    requires: tuple[str, ...]
    """Extension files that have to be loaded before it."""


TAKING: Final = frozenset({"disable_functions", "disable_classes"})
"""Directives that take something away at once and for good: of several places all count.  Source:
``zend_disable_functions`` and ``fpm_php_zend_ini_alter_master`` in PHP; asked of real pools with 7.4, 8.2 and 8.4."""
START_ONLY: Final = frozenset(
    "opcache.memory_consumption opcache.interned_strings_buffer opcache.max_accelerated_files opcache.jit_buffer_size "
    "opcache.preload opcache.preload_user opcache.huge_code_pages opcache.enable_cli opcache.file_cache".split()
)
"""Directives that count when the process starts only: a pool shows its own value, and works with the other.  Source:
``accel_startup`` of opcache, which sets up the shared memory before any pool's configuration is applied."""


_NEVER_NEGATIVE: Final = frozenset({"max_input_vars", "max_input_nesting_level"})
_LEAST_MEMORY: Final = 2 * 1024 * 1024
"""What PHP's memory manager takes from the system at once, so that no limit is below it."""


class Facts(msgspec.Struct, frozen=True):
    """What is known of one branch."""

    branch: str
    constants: dict[str, str]
    static: dict[str, tuple[str, ...]]
    """Extensions compiled into the program, by way of running PHP."""
    extensions: dict[str, Extension]
    sapi_defaults: dict[str, dict[str, str]]
    forced: dict[str, dict[str, str]]
    """Directives that a way of running PHP sets itself, whatever the files say."""
    packaged: dict[str, dict[str, str]]
    """The settings of the php.ini that a fresh installation puts in place: ``web`` and ``cli``."""
    directives: dict[str, Directive]

    def refuses(self, name: str, value: str) -> bool:
        """Whether PHP does not take a value for a directive, which then stays as it was.

        Source: ``OnUpdateLongGEZero`` and ``zend_set_memory_limit`` in PHP; asked of servers with 7.4, 8.2 and 8.4.
        """
        if value == "":
            known = self.directives.get(name)
            return known is not None and known.refuses_empty
        if name in _NEVER_NEGATIVE:
            return quantity(value).number < 0
        if name == "memory_limit" and branch_key(self.branch) >= (8, 0):
            return quantity(value).number < _LEAST_MEMORY and quantity(value).number != -1
        return False

    def default(self, name: str, sapi: str) -> str | None:
        """The built-in default of a directive; None if this way of running PHP has no such directive, or not known."""
        directive = self.directives.get(name)
        if directive is None or (directive.sapis is not None and sapi not in directive.sapis):
            return None
        return self.sapi_defaults.get(sapi, {}).get(name, directive.default)


def branch_key(branch: str) -> tuple[int, int]:
    """``8.10`` sorts after ``8.9``."""
    major, _, minor = branch.partition(".")
    return int(major), int(minor or 0)


@cache
def facts(branch: str) -> Facts:
    """The facts of a branch: as harvested, or what its two nearest harvested neighbours agree on."""
    if branch in HARVESTED:
        return _load(branch)
    key = branch_key(branch)
    below = [b for b in HARVESTED if branch_key(b) < key]
    above = [b for b in HARVESTED if branch_key(b) > key]
    if not below or not above:
        return _load(below[-1] if below else above[0])
    low, high = _load(below[-1]), _load(above[0])

    def agreed(first: Mapping[str, Any], second: Mapping[str, Any]) -> dict[str, Any]:
        return {name: value for name, value in first.items() if second.get(name) == value}

    return Facts(
        branch=branch,
        constants=agreed(low.constants, high.constants),
        static={sapi: tuple(x for x in names if x in high.static[sapi]) for sapi, names in low.static.items()},
        extensions={**high.extensions, **low.extensions},
        sapi_defaults={
            sapi: agreed(defaults, high.sapi_defaults.get(sapi, {})) for sapi, defaults in low.sapi_defaults.items()
        },
        forced=low.forced,
        packaged={key: agreed(packages, high.packaged[key]) for key, packages in low.packaged.items()},
        directives=agreed(low.directives, high.directives),
    )


@cache
def _load(branch: str) -> Facts:
    return msgspec.json.decode((_HERE / f"data/php-{branch}.json").read_bytes(), type=Facts)


@cache
def _table(name: str) -> dict[str, Any]:
    return tomllib.loads((_HERE / f"{name}.toml").read_text("utf-8"))


def known_branches() -> tuple[str, ...]:
    """Every branch with a known support date, oldest first."""
    return tuple(_table("branches")["branch"])


def api_number(branch: str) -> str | None:
    """The module API number of a branch: ``20220829`` for 8.2."""
    entry = _table("branches")["branch"].get(branch)
    return entry["api"] if entry else None


def branch_of_api(api: str) -> str | None:
    """The branch with that module API number."""
    return next((b for b, entry in _table("branches")["branch"].items() if entry["api"] == api), None)


def security_ends(branch: str) -> date | None:
    """The day on which the PHP project stops fixing security problems in this branch."""
    entry = _table("branches")["branch"].get(branch)
    return entry["security_ends"] if entry else None


def canonical(name: str) -> str:
    """One spelling for an extension: ``Zend OPcache`` and ``pdo-mysql`` are ``opcache`` and ``pdo_mysql``."""
    lowered = name.lower().strip()
    return _OTHERWISE.get(lowered, lowered.replace("-", "_"))


_OPCACHE: Final = dict.fromkeys(("zend opcache", "zend-opcache", "zend_opcache"), "opcache")
_OTHERWISE: Final = {"libvirt-php": "libvirt", "cgi-fcgi": "cgi-fcgi", **_OPCACHE}


@cache
def extension_files(branch: str) -> Mapping[str, Extension]:
    """Extension → its file, for those that are files of their own in that branch."""
    return {canonical(extension.shown): extension for extension in facts(branch).extensions.values()}


@cache
def required_by(extension: str, branch: str) -> frozenset[str]:
    """The extensions that have to be loaded before this one."""
    known = extension_files(branch).get(extension)
    return frozenset(canonical(name) for name in known.requires) if known else frozenset()


@cache
def directives_of(branch: str) -> Mapping[str, list[str]]:
    """Extension → the directives it brings."""
    directives: dict[str, list[str]] = {}
    for name, directive in facts(branch).directives.items():
        directives.setdefault(directive.owner, []).append(name)
    return directives


@cache
def catalogued(branch: str) -> set[str]:
    """Every extension that is known for a branch, compiled in or as a file."""
    compiled_in = {canonical(shown) for static in facts(branch).static.values() for shown in static}
    return compiled_in | extension_files(branch).keys()


def inside(name: str, branch: str, sapi: str, *, packaged: bool = True) -> bool:
    """Whether the extension is compiled into that PHP, so that no package is needed.

    ``packaged``: as the harvested distribution builds it; of another build only what no build is without is known.
    """
    since = _table("branches")["always_inside"].get(name)
    if since is not None:
        return branch_key(branch) >= branch_key(since)
    return packaged and name in _compiled_in(branch, sapi)


@cache
def _compiled_in(branch: str, sapi: str) -> frozenset[str]:
    return frozenset(canonical(shown) for shown in facts(branch).static.get(sapi, ()))


def extension_gone(name: str, branch: str) -> str | None:
    """The branch with which an extension left PHP, if that has happened by ``branch``."""
    gone: str | None = _table("branches")["gone"].get(name)
    return gone if gone and branch_key(branch) >= branch_key(gone) else None


def instead_of(name: str) -> str | None:
    """What took the place of an extension that is gone."""
    successor: str | None = _table("branches")["instead"].get(name)
    return successor


def directive_gone(name: str, branch: str) -> str | None:
    """The branch from which on a directive no longer exists, if that has happened by ``branch``."""
    gone: str | None = _table("directives")["gone"].get(name)
    if gone is None and name not in facts(branch).directives:
        gone = next((b for old, b in itertools.pairwise(HARVESTED) if _vanished(name, old, b)), None)
    return gone if gone and branch_key(branch) >= branch_key(gone) else None


def _vanished(name: str, old: str, new: str) -> bool:
    """A directive of PHP itself that one harvested branch has and the next has not."""
    directive = _load(old).directives.get(name)
    if directive is None or name in _load(new).directives:
        return False
    return directive.owner in {"core", "standard", *(x.lower() for x in _load(new).static["fpm"])}


def is_unlimited(name: str, value: str) -> bool:
    """Whether this value of this directive means that there is no limit."""
    return value.strip() in _table("directives")["unlimited"].get(name, ())


def has_unlimited(name: str) -> bool:
    """Whether the directive knows a value that means no limit."""
    return name in _table("directives")["unlimited"]


def is_switch(name: str) -> bool:
    """Whether PHP shows this directive as *On* or *Off*."""
    return name in _values().switches


def is_sized(name: str) -> bool:
    """Whether this directive is a number of bytes that is written with K, M or G by default."""
    defaults = (_load(branch).directives.get(name) for branch in HARVESTED)
    return any(default is not None and re.fullmatch(r"\d+[KMG]", default.default) for default in defaults)


def time_zones() -> frozenset[str]:
    """The names of time zones that PHP knows, older ones too."""
    return _values().zones


@cache
def own_functions() -> Mapping[str, tuple[str, ...]]:
    """The functions that need no extension, each with the harvested branches that have it."""
    functions = _values().functions.items()
    return {name: tuple(branches.split()) for branches, names in functions for name in names}


class _Values(msgspec.Struct, frozen=True):
    switches: frozenset[str]
    zones: frozenset[str]
    functions: dict[str, tuple[str, ...]]
    """By the branches that have them."""


@cache
def _values() -> _Values:
    return msgspec.json.decode((_HERE / "data/values.json").read_bytes(), type=_Values)


def follows(name: str, value: str) -> str | None:
    """The directive that counts instead, for a special value (``max_input_time = -1``)."""
    followed: str | None = _table("directives")["follows"].get(name, {}).get(value.strip())
    return followed


def owner_of_directive(name: str, branch: str) -> str | None:
    """The extension that brings the directive; None for PHP itself or an unknown directive."""
    directive = facts(branch).directives.get(name)
    if directive is None or directive.owner in ("core", "standard"):
        return None
    return directive.owner
