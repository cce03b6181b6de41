"""What the package database and the repositories' indexes of a server say, together."""

import msgspec

from fundamentum.server.model import Installed, Offer, Repository, System


class Packages(msgspec.Struct):
    """What the package database and the repositories' indexes say."""

    system: System
    installed: tuple[Installed, ...] | None
    owners: dict[str, str]
    offers: tuple[Offer, ...] | None
    repositories: list[Repository]
    bringing: dict[str, list[str]] = {}
    """Command that was asked for → the packages that bring it, from indexes of commands and files."""
