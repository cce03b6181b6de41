"""The packages of a Debian-family system: what is installed, what is on offer, and which brought a file."""

import posixpath
from collections.abc import Collection, Iterable, Sequence, Set
from pathlib import Path
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.suppliers import suppliers
from fundamentum.errors import InputError
from fundamentum.hosts.base import MAX_BYTES, Host, listed, text_or_none
from fundamentum.model.packages import Installed, Offer, Packages, Repository
from fundamentum.model.remark import Remark
from fundamentum.model.surrounding_facts import Asked
from fundamentum.model.survey import Survey
from fundamentum.model.system import System
from fundamentum.platforms import platform
from fundamentum.platforms.base import PHP_FOLDERS
from fundamentum.platforms.debian import apt, control, dpkg
from fundamentum.platforms.debian.command_index import indexed_commands
from fundamentum.untrusted.decompress import unpack
from fundamentum.untrusted.files import read_named

MAX_AGE: Final = 14
"""Days: a release's security updates replace what an older index names."""
PACKINGS: Final = ("", ".gz", ".xz", ".lz4", ".zst", ".bz2")


def read(host: Host, system: System, asked: Asked, also: Set[str]) -> tuple[Packages, list[Remark]]:
    """What is installed, and what there is that has to do with PHP; ``also`` are further packages to look for."""
    system = replace(system, architecture=dpkg.architecture(host))
    database = dpkg.probe(host)
    bringing = indexed_commands(host, asked.commands)
    wanted = {*also, *(package for packages in bringing.values() for package in packages)}
    offers, repositories, remarks = apt.probe(host, system.architecture, wanted)
    moving = _moving(database.installed or (), offers or ())
    bound = _bound_to(moving, database.installed or (), offers or ())
    if moving or bound:
        siblings = {package.name for package in database.installed or ()}
        offers, repositories, remarks = apt.probe(host, system.architecture, wanted | bound, siblings)
    if offers and database.waiting:
        why = "it is on hold here: apt-mark unhold"
        offers = tuple(replace(o, shut_out=f"{why} {o.name}") if o.name in database.waiting else o for o in offers)
    remarks += _aged(repositories, host.visit.taken)
    owners = dpkg.owners(host, PHP_FOLDERS)
    known = Packages(system, database.installed, owners, offers, repositories, bringing, safe_offers=True)
    return known, [*database.remarks, *remarks]


def _moving(installed: Iterable[Installed], offers: Sequence[Offer]) -> set[str]:
    """Installed packages that are offered in another version."""
    versions: dict[str, set[str]] = {}
    for offer in offers:
        versions.setdefault(offer.name, set()).add(offer.version)
    return {package.name for package in installed if versions.get(package.name, set()) - {package.version}}


def _bound_to(moving: Set[str], installed: Iterable[Installed], offers: Sequence[Offer]) -> set[str]:
    """Installed packages, not among the offers, that have to come along with those that move.

    They ask for the very version of one that is installed, or what would be new breaks them as they are.
    """
    offered = {offer.name for offer in offers}
    others = {package.name: package for package in installed if package.name not in offered}
    bound = {name for name, package in others.items() if not moving.isdisjoint(control.names_in(package.bound))}
    present = {(package.name, package.version) for package in installed}
    conflicts = {offer.conflicts for offer in offers if offer.conflicts and (offer.name, offer.version) not in present}
    fits = platform("debian").fits
    for field in conflicts:
        if not others.keys().isdisjoint(control.names_in(field)):
            groups = control.relations(field)
            broken = (
                relation for group in groups for relation in group if relation.version and relation.name in others
            )
            bound.update(
                relation.name
                for relation in broken
                if relation.name not in bound and fits(others[relation.name].version, relation)
            )
    return bound


def _aged(repositories: Iterable[Repository], taken: int | None) -> list[Remark]:
    """What follows from indexes that were fetched long ago."""
    fetched = [repository.fetched for repository in repositories if repository.fetched is not None]
    days = (taken - min(fetched)) // 86400 if taken and fetched else 0
    if days <= MAX_AGE:
        return []
    why = f"the indexes were fetched {days} days ago: run apt-get update first, or what they name may be gone"
    return [Remark("packages", why)]


def owners_of(host: Host, paths: Set[str]) -> dict[str, str]:
    """File → package, from dpkg's lists: those of the likely packages first, then all of them."""
    owners: dict[str, str] = {}
    if not paths:
        return owners
    # Since the directories below / and /usr are one, a list may name either.
    wanted = {alias: path for path in paths for alias in (path, path.removeprefix("/usr"), f"/usr{path}")}
    names = [name for name in listed(host, dpkg.INFO) if name.endswith(".list")]
    likely = {posixpath.basename(path) for path in paths}
    likely |= {package for path in paths for package in suppliers().of_command(posixpath.basename(path))}
    names.sort(key=lambda name: name.removesuffix(".list").partition(":")[0] not in likely)
    for name in names:
        if len(owners) == len(paths):
            break
        for line in (text_or_none(host, f"{dpkg.INFO}/{name}") or "").splitlines():
            if line in wanted:
                owners.setdefault(wanted[line], name.removesuffix(".list").partition(":")[0])
    return owners


def index_key(path: Path) -> str | None:
    """What an index is known by, however it is packed; None if this is no ``Packages`` file."""
    if path.is_dir() or (not path.is_fifo() and _packing(path.name) is None):
        return None
    end = path.name.rfind("Packages")
    return str(path.parent / path.name[: end + len("Packages")]) if end >= 0 else str(path)


def _packing(name: str) -> str | None:
    """How a ``Packages`` file is packed; None if it is none."""
    return next((packing for packing in PACKINGS if name.endswith(f"Packages{packing}")), None)


def offers_of(path: Path, survey: Survey, also: Collection[str]) -> tuple[list[Offer], Repository]:
    """The packages of one ``Packages`` file that concern PHP on this server."""
    packing = "" if path.is_fifo() else _packing(path.name)
    data = read_named(path, MAX_BYTES, "a package index")
    problem = None
    if packing:
        data, problem = unpack(data, packing)
    if problem:
        raise InputError(str(path), problem)
    release: dict[str, str] = {}
    for folder in (path.parent, *list(path.parents)[:4]):
        for name in ("InRelease", "Release"):
            if (folder / name).is_file() and not release:
                release = apt.release_fields(_head(folder / name))
    if not release:
        prefix = path.name.partition("_main_")[0]
        for name in (f"{prefix}_InRelease", f"{prefix}_Release"):
            if prefix != path.name and (path.parent / name).is_file() and not release:
                release = apt.release_fields(_head(path.parent / name))
    component = next((part for part in ("main", "contrib", "universe") if f"/{part}/" in str(path)), "")
    repository = apt.repository(release, component or ("main" if "_main_" in path.name else ""))
    if repository.name == "unnamed repository":
        repository = replace(repository, name=f"index {path.name}")
    offers = apt.offers_in(data, repository, survey.system.architecture, also)
    installed = survey.installed or ()
    if bound := _bound_to(_moving(installed, offers), installed, offers):
        offers = apt.offers_in(data, repository, survey.system.architecture, {*also, *bound})
    return offers, repository


def _head(path: Path) -> bytes:
    """The beginning of a release file."""
    try:
        with path.open("rb") as stream:
            return stream.read(4096)
    except OSError:
        return b""
