"""The applications that a server serves: for each site the directory that its application stands in."""

import posixpath
from collections.abc import Iterable, Iterator
from typing import Final

from fundamentum.hosts.base import HostError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.served import Served
from fundamentum.model.survey import OtherSite, Site, Survey

MANIFESTS: Final = frozenset({"composer.json", "composer.lock"})
"""Files that stand at the top of an application."""
NEEDS: Final = ".needs.toml"
_PUBLIC: Final = frozenset({"public", "public_html", "htdocs", "www", "web", "html", "webroot", "docroot", "pub"})
"""How the directory of an application is called that visitors see, where the rest of it stands beside that."""
_SOURCES: Final = frozenset(
    "src app application lib libs inc include includes vendor config model models system core".split()
)
"""What stands beside it."""
_LEVELS: Final = 2
"""Directories above a document root in which an application may begin."""
_SHARED: Final = frozenset(
    {"/", "/srv", "/var/www", "/home", "/usr/share", "/opt", "/var/lib", "/inetpub", "/usr/local"}
)
"""Directories in which those of several applications stand."""
_WHOLE: Final = frozenset("/ /etc /home /opt /root /usr /usr/local /usr/share /var /var/lib".split())
"""Directories that are no application's, even if a web server hands all of them out."""


def served(survey: Survey, host: DirectoryHost) -> list[Served]:
    """One for each site that is handed to PHP, and each of its document roots, by their names; then the other sites.

    Of parts of a site that have one root the one that a visitor's first request meets stands for all.
    """
    serveds: dict[tuple[str, str], Served] = {}
    roots = {site.root for site in survey.sites if site.root}
    for site in sorted(survey.sites, key=lambda site: (site.name, site.first_page != "here", site.part or "")):
        root = site.root or ""
        if (site.name, root) not in serveds:
            serveds[site.name, root] = _of_site(site, host, roots - {root})
    return [
        *serveds.values(),
        *(_of_other(other_site) for other_site in sorted(survey.other_sites, key=lambda other_site: other_site.name)),
    ]


def _of_other(site: OtherSite) -> Served:
    """A site of which nothing is handed to PHP here."""
    on = f"hands its requests on to {site.handed_to}: what answers there is not looked into"
    return Served(site.name, site.root or "", why=on if site.handed_to else "hands nothing to PHP")


def _of_site(site: Site, host: DirectoryHost, others: Iterable[str]) -> Served:
    name = f"{site.name} {site.part or ''}".strip() if site.first_page != "here" else site.name
    if not site.root or not site.root.startswith("/"):
        return Served(name, site.root or "", why="where it stands is not known")
    real = host.resolve(site.root)
    if real is None:
        return Served(name, site.root, why=_missing(host, site.root))
    try:
        names = host.names(real)
    except HostError as error:
        return Served(name, site.root, why=f"{error}: cannot be looked into")
    if not names:
        return Served(name, site.root, why=f"{site.root} is empty")
    if real in _WHOLE:
        return Served(name, site.root, why=f"{real} holds much more than an application: not looked into")
    folder = next(_upwards(host, real, others), real)
    return Served(name, site.root, folder, host.root / folder.lstrip("/"))


def _missing(host: DirectoryHost, root: str) -> str:
    """Why a document root cannot be found: a directory above it may not be looked into, or it is not there."""
    above = posixpath.dirname(root.rstrip("/"))
    while above not in ("", "/") and host.resolve(above) is None:
        above = posixpath.dirname(above)
    try:
        host.names(above or "/")
    except HostError as error:
        return f"{error}: cannot be looked into"
    return f"{root} is not there"


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
        above = posixpath.basename(at) != posixpath.basename(root) and posixpath.basename(root) in _PUBLIC
        if above and (_SOURCES.intersection(names) or any(name.endswith((".php", ".inc")) for name in names)):
            yield at
        at = posixpath.dirname(at)
