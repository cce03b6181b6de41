"""Distribution and release, from ``/etc/os-release``, and of which kind it is."""

import re

from fundamentum.hosts.base import Host, HostError, text_of
from fundamentum.model.remark import Remark
from fundamentum.model.system import System
from fundamentum.platforms import UNKNOWN, platform, recognised


def probe(host: Host) -> tuple[System, list[Remark]]:
    """What kind of system this is.  Source: os-release(5)."""
    values: dict[str, str] = {}
    remarks = []
    try:
        text = text_of(host, "/etc/os-release") or text_of(host, "/usr/lib/os-release") or ""
        for line in text.splitlines():
            if match := re.fullmatch(r"\s*([A-Z_]+)=([\"']?)(.*)\2\s*", line):
                values[match[1]] = match[3]
    except HostError as error:
        remarks.append(Remark("distribution", str(error)))
    family, how = recognised(host, values.get("ID", ""), values.get("ID_LIKE", "").split())
    if name := platform(family).os_name:
        return System(family=family, id=family, name=name), remarks
    if not values:
        remarks.append(Remark("distribution", "no /etc/os-release: distribution and release are unknown"))
    name = values.get("PRETTY_NAME", values.get("NAME", ""))
    if how:
        remarks.append(Remark("distribution", f"{name or 'this server'}: {how}"))
    elif family == UNKNOWN and values:
        why = "packages and their manager are not judged; PHP is, where it is found"
        remarks.append(Remark("distribution", f"{name or values.get('ID')}: a {platform(UNKNOWN).title}: {why}"))
    return (
        System(
            family=family,
            id=values.get("ID", ""),
            name=name,
            release=values.get("VERSION_ID", ""),
            codename=values.get("VERSION_CODENAME", ""),
        ),
        remarks,
    )


def hostname(host: Host) -> str:
    """The name in ``/etc/hostname``, or the host's own."""
    if host.live:
        return host.name
    try:
        text = (text_of(host, "/etc/hostname", 4096) or "").split()
    except HostError:
        text = []
    return text[0] if text else host.name
