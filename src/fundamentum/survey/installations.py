"""Where PHP stands on a server, however it came there."""

from fundamentum.hosts.base import Host
from fundamentum.model.installation import Installation
from fundamentum.model.remark import Remark
from fundamentum.model.system import System
from fundamentum.platforms import parts


def installations(host: Host, system: System) -> tuple[list[Installation], list[Remark]]:
    """Every program that runs PHP on this server, each once: as the first platform that knows its place tells it."""
    found: dict[str, Installation] = {}
    remarks: list[Remark] = []
    for layout in parts("layout", "installations", system.family):
        more, said = layout.installations(host, system)
        remarks += said
        for installation in more:
            found.setdefault(host.resolve(installation.program) or installation.program, installation)
    return list(found.values()), remarks
