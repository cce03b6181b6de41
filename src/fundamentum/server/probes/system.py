"""Distribution and release, from ``/etc/os-release`` and ``/etc/debian_version``."""

import re

from fundamentum.server.hosts import Host, HostError, text_of
from fundamentum.server.model import Remark, System


def probe(host: Host) -> tuple[System, list[Remark]]:
    """What kind of system this is.  Source: os-release(5)."""
    values: dict[str, str] = {}
    remarks = []
    try:
        text = text_of(host, "/etc/os-release") or text_of(host, "/usr/lib/os-release") or ""
        for line in text.splitlines():
            if match := re.fullmatch(r"\s*([A-Z_]+)=(\"?)(.*)\2\s*", line):
                values[match[1]] = match[3]
    except HostError as error:
        remarks.append(Remark("distribution", str(error)))
    if not values:
        remarks.append(Remark("distribution", "no /etc/os-release: distribution and release are unknown"))
    debian = host.stat("/var/lib/dpkg/status") is not None
    return (
        System(
            family="debian" if debian else "unknown",
            id=values.get("ID", ""),
            name=values.get("PRETTY_NAME", values.get("NAME", "")),
            release=values.get("VERSION_ID", ""),
            codename=values.get("VERSION_CODENAME", ""),
            architecture=_architecture(host) if debian else "",
        ),
        remarks,
    )


def _architecture(host: Host) -> str:
    """dpkg's native architecture: that of the package ``dpkg`` itself."""
    try:
        data = host.read("/var/lib/dpkg/status") or b""
    except HostError:
        return ""
    match = re.search(rb"(?:^|\n)Package: dpkg\n(?:[^\n]+\n)*?Architecture: ([a-z0-9-]+)\n", data)
    return match[1].decode() if match else ""


def hostname(host: Host) -> str:
    """The name in ``/etc/hostname``, or the host's own."""
    if host.live:
        return host.name
    try:
        text = (text_of(host, "/etc/hostname", 4096) or "").split()
    except HostError:
        text = []
    return text[0] if text else host.name
