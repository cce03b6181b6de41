"""Installed packages of a Debian-family system, and which of them owns which extension file."""

import re

from fundamentum.server import control
from fundamentum.server.hosts import Host, HostError, text_of
from fundamentum.server.model import Installed, Remark

STATUS = "/var/lib/dpkg/status"
INFO = "/var/lib/dpkg/info"


def probe(host: Host) -> tuple[tuple[Installed, ...] | None, list[Remark]]:
    """The packages whose state is ``installed``.  Source: dpkg(1), Debian policy on control files."""
    try:
        data = host.read(STATUS)
    except HostError as error:
        return None, [Remark("installed packages", f"{error}: what is installed is unknown")]
    if data is None:
        return None, []
    remarks = []
    try:
        data.decode("utf-8")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        remarks.append(Remark("installed packages", f"{STATUS}:{line}: not UTF-8; read as far as it makes sense"))
    found = []
    for stanza in control.stanzas(data):
        entry = control.fields(stanza)
        if not control.PACKAGE_NAME.fullmatch(entry.get("Package", "")) or not entry.get("Version"):
            remarks.append(
                Remark(
                    "installed packages", f"{STATUS}: a stanza without package or version; what follows may be missing"
                )
            )
            continue
        status = entry.get("Status", "")
        if status.endswith(" installed"):
            held = status.startswith("hold ")
            found.append(Installed(entry["Package"], entry["Version"], entry.get("Provides", ""), held))
    if data and not data.endswith(b"\n"):
        remarks.append(
            Remark("installed packages", f"{STATUS}: the file breaks off; packages after that point are unknown")
        )
    return tuple(sorted(found, key=lambda p: p.name)), remarks[:5]


def architecture(host: Host) -> str:
    """dpkg's native architecture: that of the package ``dpkg`` itself."""
    try:
        data = host.read(STATUS) or b""
    except HostError:
        return ""
    match = re.search(rb"(?:^|\n)Package: dpkg\n(?:[^\n]+\n)*?Architecture: ([a-z0-9-]+)\n", data)
    return match[1].decode() if match else ""


def owners(host: Host, directories: tuple[str, ...]) -> dict[str, str]:
    """File below one of the directories → the installed package that owns it, from dpkg's file lists."""
    found: dict[str, str] = {}
    try:
        names = host.names(INFO)
    except HostError:
        return found
    for name in names:
        if not name.endswith(".list") or "php" not in name:
            continue
        try:
            text = text_of(host, f"{INFO}/{name}") or ""
        except HostError:
            continue
        package = name.removesuffix(".list").partition(":")[0]
        found |= {line: package for line in text.splitlines() if line.startswith(directories)}
    return found
