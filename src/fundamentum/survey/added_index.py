"""Package indexes that are not configured on the server: what it could have if they were."""

import os
from pathlib import Path
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.suppliers import packages_of
from fundamentum.errors import InputError
from fundamentum.hosts.base import MAX_BYTES
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.packages import Offer, Repository
from fundamentum.model.surroundings import Asked
from fundamentum.model.survey import Survey
from fundamentum.model.text import scrubbed
from fundamentum.platforms import platform
from fundamentum.platforms.debian import apt
from fundamentum.platforms.redhat import dnf
from fundamentum.untrusted.budget import Budget
from fundamentum.untrusted.decompress import unpack
from fundamentum.untrusted.files import named, read_named

MAX_DEPTH: Final = 6
MAX_FILES: Final = 200
MAX_FOLDERS: Final = 20_000
PACKINGS: Final = ("", ".gz", ".xz", ".lz4", ".zst", ".bz2")


def with_index(survey: Survey, word: str) -> tuple[Survey, list[str]]:
    """The survey with the offers of one more index, and the names of the sources they come from.

    ``word`` is a ``Packages`` file, a ``repodata`` directory, or the directory of a mirror that holds some.
    """
    path = named(word, "a package index")
    if not path.exists():
        raise InputError(word, "there is no such file or directory")
    offers: list[Offer] = []
    repositories: list[Repository] = []
    found = sorted(_below(path)) if path.is_dir() else [path]
    budget = Budget()
    for one in found:
        if budget.over():
            raise InputError(word, f"takes too long to read ({budget.spent}); name one index of it")
        if one.name == "repodata":
            more, repository = _rpm(one, survey)
        elif (packing := "" if one.is_fifo() else _packing(one.name)) is not None:
            more, repository = _deb(one, packing, survey)
        else:
            raise InputError(word, "is no package index; give a Packages file, a repodata directory, or a mirror")
        offers += more
        repositories.append(repository)
    if not offers:
        kind = platform(survey.system.family).indexes
        raise InputError(word, f"holds no package that concerns PHP on this server ({kind} were looked for)")
    names = list(dict.fromkeys(one.name for one in repositories if any(o.source == one.name for o in offers)))
    offers = list(scrubbed(tuple(offers)))
    together = (*(survey.offers or ()), *offers)
    return replace(survey, offers=together, repositories=(*survey.repositories, *repositories)), names


def _below(folder: Path) -> list[Path]:
    """Indexes in a mirror's tree; of one in several packings, the first."""
    if folder.name == "repodata":
        return [folder]
    found: dict[str, Path] = {}
    top = len(folder.parts)
    for seen, (at, folders, files) in enumerate(os.walk(folder)):
        if seen > MAX_FOLDERS:
            raise InputError(str(folder), f"holds more than {MAX_FOLDERS:,} directories; name one of its indexes")
        here = Path(at)
        folders[:] = sorted(one for one in folders if len(here.parts) - top < MAX_DEPTH)
        if here.name == "repodata":
            found[at] = here
        for name in sorted(files):
            if _packing(name) is not None:
                found.setdefault(at + "/" + _stem(name), here / name)
        if len(found) > MAX_FILES:
            raise InputError(str(folder), f"holds more than {MAX_FILES} indexes; name one of them")
    return list(found.values())


def _stem(name: str) -> str:
    return name[: name.rindex("Packages") + len("Packages")]


def _packing(name: str) -> str | None:
    """How a ``Packages`` file is packed; None if it is none."""
    return next((packing for packing in PACKINGS if name.endswith(f"Packages{packing}")), None)


def _deb(path: Path, packing: str, survey: Survey) -> tuple[list[Offer], Repository]:
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
        beside = path.name.partition("_main_")[0]
        for name in (f"{beside}_InRelease", f"{beside}_Release"):
            if beside != path.name and (path.parent / name).is_file() and not release:
                release = apt.release_fields(_head(path.parent / name))
    component = next((part for part in ("main", "contrib", "universe") if f"/{part}/" in str(path)), "")
    repository = apt.repository(release, component or ("main" if "_main_" in path.name else ""))
    if repository.name == "unnamed repository":
        repository = replace(repository, name=f"index {path.name}")
    asked = survey.asked or Asked()
    also = packages_of(asked.commands, asked.products)
    return apt.offers_in(data, repository, survey.system.architecture, also), repository


def _head(path: Path) -> bytes:
    """The beginning of a release file."""
    try:
        with path.open("rb") as stream:
            return stream.read(4096)
    except OSError:
        return b""


def _rpm(folder: Path, survey: Survey) -> tuple[list[Offer], Repository]:
    name = folder.parent.name or "repository"
    host = DirectoryHost(folder.parent, name)
    asked = survey.asked or Asked()
    also = packages_of(asked.commands, asked.products)
    offers = dnf.offers_in(host, "/repodata", name, survey.system.architecture, also, asked.commands)
    return offers, Repository(name, label=name)
