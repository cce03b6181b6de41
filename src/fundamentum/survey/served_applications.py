"""The applications that a server serves: for each site the directory that its application stands in."""

import posixpath
from collections.abc import Iterable, Iterator
from typing import Final

from fundamentum.hosts.base import HostError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.served import Served
from fundamentum.model.survey import Site, Survey

MANIFESTS: Final = frozenset({"composer.json", "composer.lock"})
"""Files that stand at the top of an application."""
NEEDS: Final = ".needs.toml"
_LEVELS: Final = 2
"""Directories above a document root in which an application may begin."""
_SHARED: Final = frozenset(
    {"/", "/srv", "/var/www", "/home", "/usr/share", "/opt", "/var/lib", "/inetpub", "/usr/local"}
)
"""Directories in which those of several applications stand."""


def served(survey: Survey, host: DirectoryHost) -> list[Served]:
    """One for each document root that is handed to PHP, in the order of the sites' names."""
    found: dict[str, Served] = {}
    roots = {site.root for site in survey.sites if site.root}
    for site in sorted(survey.sites, key=lambda one: (one.name, one.part or "")):
        root = site.root or ""
        if root not in found:
            found[root] = _of_site(site, host, roots - {root})
    return list(found.values())


def _of_site(site: Site, host: DirectoryHost, others: Iterable[str]) -> Served:
    name = f"{site.name} {site.part or ''}".strip()
    if not site.root or not site.root.startswith("/"):
        return Served(name, site.root or "", why="where it stands is not known")
    real = host.resolve(site.root)
    if real is None:
        return Served(name, site.root, why=f"{site.root} is not there")
    try:
        names = host.names(real)
    except HostError as error:
        return Served(name, site.root, why=f"{error}: cannot be looked into")
    if not names:
        return Served(name, site.root, why=f"{site.root} is empty")
    folder = next(_upwards(host, real, others), real)
    return Served(name, site.root, folder, host.root / folder.lstrip("/"))


def _upwards(host: DirectoryHost, root: str, others: Iterable[str]) -> Iterator[str]:
    """The directories from a document root upwards that are the top of an application: the nearest comes first.

    A directory in which other sites stand, or in which several applications do, is none.
    """
    at = root
    for _ in range(_LEVELS + 1):
        if at in _SHARED or any(other.startswith(f"{at}/") and not root.startswith(other) for other in others):
            return
        try:
            names = host.names(at)
        except HostError:
            return
        if MANIFESTS.intersection(names) or any(name.endswith(NEEDS) for name in names):
            yield at
        at = posixpath.dirname(at)
