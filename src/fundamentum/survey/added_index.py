"""Package indexes that are not configured on the server: what it could have if they were."""

import os
from pathlib import Path
from types import ModuleType
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.suppliers import packages_of
from fundamentum.errors import InputError
from fundamentum.model.packages import Offer, Repository
from fundamentum.model.safe_text import scrubbed
from fundamentum.model.surrounding_facts import Asked
from fundamentum.model.survey import Survey
from fundamentum.platforms import parts, platform
from fundamentum.untrusted.budget import Budget
from fundamentum.untrusted.files import named

MAX_DEPTH: Final = 6
MAX_FILES: Final = 200
MAX_FOLDERS: Final = 20_000


def with_index(survey: Survey, word: str) -> tuple[Survey, list[str]]:
    """The survey with the offers of one more index, and the names of the sources they come from.

    ``word`` is a ``Packages`` file, a ``repodata`` directory, or the directory of a mirror that holds some.
    """
    path = named(word, "a package index")
    if not path.exists():
        raise InputError(word, "there is no such file or directory")
    offers: list[Offer] = []
    repositories: list[Repository] = []
    readers = list(parts("packages", "index_key", survey.system.family))
    asked = survey.asked or Asked()
    also = packages_of(asked.commands) | set(asked.packages)
    also |= {package.name for package in survey.installed or () if package.bound}  # may have to come along
    paths = sorted(_below(path, readers)) if path.is_dir() else [path]
    budget = Budget()
    for index in paths:
        if budget.over():
            raise InputError(word, f"takes too long to read ({budget.spent}); name one index of it")
        reader = next((reader for reader in readers if reader.index_key(index)), None)
        if reader is None:
            raise InputError(word, "is no package index; give a Packages file, a repodata directory, or a mirror")
        added, repository = reader.offers_of(index, survey, also)
        offers += added
        repositories.append(repository)
    if not offers:
        kind = platform(survey.system.family).indexes
        raise InputError(word, f"holds no package that concerns PHP on this server ({kind} were looked for)")
    names = list(
        dict.fromkeys(
            repository.name for repository in repositories if any(offer.source == repository.name for offer in offers)
        )
    )
    offers = list(scrubbed(tuple(offers)))
    together = (*(survey.offers or ()), *offers)
    return replace(survey, offers=together, repositories=(*survey.repositories, *repositories)), names


def _below(folder: Path, readers: list[ModuleType]) -> list[Path]:
    """Indexes in a mirror's tree; of one in several packings, the first."""
    if any(reader.index_key(folder) for reader in readers):
        return [folder]
    paths: dict[str, Path] = {}
    top = len(folder.parts)
    for seen, (at, folders, files) in enumerate(os.walk(folder)):
        if seen > MAX_FOLDERS:
            raise InputError(str(folder), f"holds more than {MAX_FOLDERS:,} directories; name one of its indexes")
        here = Path(at)
        folders[:] = sorted(folder for folder in folders if len(here.parts) - top < MAX_DEPTH)
        for path in (here, *(here / name for name in sorted(files))):
            if key := next(filter(None, (reader.index_key(path) for reader in readers)), None):
                paths.setdefault(key, path)
        if len(paths) > MAX_FILES:
            raise InputError(str(folder), f"holds more than {MAX_FILES} indexes; name one of them")
    return list(paths.values())
