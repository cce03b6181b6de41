"""Where PHP stands on a server, however it came there."""

from typing import Final

from fundamentum.catalog import branch_key
from fundamentum.hosts.base import Host
from fundamentum.model.installation import Installation
from fundamentum.model.remark import Remark
from fundamentum.model.system import System
from fundamentum.platforms import parts
from fundamentum.platforms.base import too_old

OLDEST: Final = (7, 0)
"""The first branch that is judged: settings and extensions of earlier ones differ too much from what is known."""


def installations(host: Host, system: System) -> tuple[list[Installation], list[Remark]]:
    """Every program that runs PHP on this server, each once: as the first platform that knows its place tells it."""
    by_home: dict[str, Installation] = {}
    remarks: list[Remark] = []
    for layout in parts("layout", "installations", system.family, windows=host.windows):
        seen, said = layout.installations(host, system)
        remarks += said
        for installation in seen:
            by_home.setdefault(host.resolve(installation.program) or installation.program, installation)
    for path, installation in list(by_home.items()):
        if branch_key(installation.branch) < OLDEST:
            del by_home[path]
            remarks.append(too_old(installation.branch, installation.program))
    return list(by_home.values()), remarks
