"""Programs that applications run: where they are, and which package brings each."""

import posixpath
from collections.abc import Sequence

from fundamentum.catalog.suppliers import suppliers
from fundamentum.hosts.base import Host
from fundamentum.hosts.programs import path_of
from fundamentum.model.packages import Offer, Packages
from fundamentum.model.surrounding_facts import Command
from fundamentum.platforms import part


def probe(host: Host, names: Sequence[str], packages: Packages) -> tuple[Command, ...]:
    """Each of these programs."""
    if not names:
        return ()
    offered = {offer.name: offer for offer in packages.offers or () if offer.priority >= 0 and not offer.shut_out}
    paths = {name: path_of(host, name) for name in names}
    real = {name: host.resolve(path) or path for name, path in paths.items() if path}
    of_files = getattr(part(packages.system.family, "packages"), "owners_of", None)
    owners = of_files(host, set(real.values())) if of_files else packages.owners
    commands = []
    for name in names:
        named = [offer.name for offer in offered.values() if f"/{name}" in _files(offer)]
        likely = [*packages.bringing.get(name, ()), *named, *suppliers().of_command(name)]
        suiting = tuple(package for package in dict.fromkeys(likely) if package in offered)
        owner = owners.get(real.get(name, "")) or owners.get(paths[name] or "")
        commands.append(Command(name, paths[name], owner, suiting))
    return tuple(commands)


def _files(offer: Offer) -> set[str]:
    return {
        "/" + posixpath.basename(part) for part in offer.provides.split(", ") if part.startswith(("/usr/", "/bin/"))
    }
