"""Where PHP can stand on a server: one file for each way of laying it out."""

from collections.abc import Callable
from typing import Final

from fundamentum.hosts.base import Host
from fundamentum.model.installation import Installation
from fundamentum.model.remark import Remark
from fundamentum.model.system import System
from fundamentum.platforms import source_build as compiled
from fundamentum.platforms import windows_layout as windows
from fundamentum.platforms.debian import layout as debian
from fundamentum.platforms.redhat import layout as redhat

Layout = Callable[[Host, System], tuple[list[Installation], list[Remark]]]
LAYOUTS: Final[tuple[Layout, ...]] = (debian.probe, redhat.probe, windows.probe, compiled.probe)
"""In this order; what an earlier one has claimed, a later one leaves alone."""


def installations(host: Host, system: System) -> tuple[list[Installation], list[Remark]]:
    """Every program that runs PHP on this server, each once."""
    found: dict[str, Installation] = {}
    remarks: list[Remark] = []
    for layout in LAYOUTS:
        more, said = layout(host, system)
        remarks += said
        for one in more:
            found.setdefault(host.resolve(one.program) or one.program, one)
    return list(found.values()), remarks
