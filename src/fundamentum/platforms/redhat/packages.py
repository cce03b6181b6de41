"""The packages of an RHEL-family system: what is installed, and what is on offer."""

from collections.abc import Collection, Set
from pathlib import Path

from msgspec.structs import replace

from fundamentum.hosts.base import Host
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.programs import possible
from fundamentum.model.packages import Offer, Packages, Repository
from fundamentum.model.remark import Remark
from fundamentum.model.surrounding_facts import Asked
from fundamentum.model.survey import Survey
from fundamentum.model.system import System
from fundamentum.platforms.base import PHP_FOLDERS
from fundamentum.platforms.redhat import dnf, rpm


def read(host: Host, system: System, asked: Asked, also: Set[str]) -> tuple[Packages, list[Remark]]:
    """What is installed, and what there is that has to do with PHP; ``also`` are further packages to look for."""
    paths = {path for name in asked.commands for path in possible(host, name)}
    database = rpm.probe(host, PHP_FOLDERS, sorted(paths))
    system = replace(system, architecture=database.architecture)
    offers, repositories, remarks = dnf.probe(host, database.architecture, database.capabilities, also, asked.commands)
    return Packages(system, database.packages, database.owners, offers, repositories), database.remarks + remarks


def index_key(path: Path) -> str | None:
    """What an index is known by; None if this is no ``repodata`` directory."""
    return str(path) if path.name == "repodata" else None


def offers_of(folder: Path, survey: Survey, also: Collection[str]) -> tuple[list[Offer], Repository]:
    """The packages of one ``repodata`` directory that concern PHP on this server."""
    name = folder.parent.name or "repository"
    host = DirectoryHost(folder.parent, name)
    commands = survey.asked.commands if survey.asked else ()
    offers = dnf.offers_in(host, "/repodata", name, survey.system.architecture, also, commands)
    return offers, Repository(name, label=name)
