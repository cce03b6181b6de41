"""Installed packages of a Debian-family system, and which of them owns which extension file."""

import re

from fundamentum.hosts.base import Host, HostError, text_of
from fundamentum.model.packages import Installed
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_version
from fundamentum.platforms.debian import control

STATUS = "/var/lib/dpkg/status"
INFO = "/var/lib/dpkg/info"
MAX_STATUS = 32 * 1024 * 1024
"""Bytes; a server with three thousand packages has four million."""
MAX_INSTALLED = 100_000
MAX_OWNED = 200_000
"""Files whose package is remembered."""


def probe(host: Host) -> tuple[tuple[Installed, ...] | None, list[Remark]]:
    """The packages whose state is ``installed``.  Source: dpkg(1), Debian policy on control files."""
    try:
        data = host.read(STATUS, MAX_STATUS)
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
    found: list[Installed] = []
    for stanza in control.stanzas(data):
        entry = control.fields(stanza)
        host.budget.tick()
        if not control.PACKAGE_NAME.fullmatch(entry.get("Package", "")) or not is_version(entry.get("Version", "")):
            remarks.append(
                Remark(
                    "installed packages",
                    f"{STATUS}: breaks off, or has a stanza without a package or with an odd version",
                )
            )
            continue
        if len(found) >= MAX_INSTALLED:
            return None, [Remark("installed packages", f"{STATUS}: more packages than any system has: not believed")]
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
        data = b"\n" + (host.read(STATUS, MAX_STATUS) or b"")
    except HostError:
        return ""
    at = data.find(b"\nPackage: dpkg\n")
    stanza = data[at : min(max(data.find(b"\n\n", at), at), at + control.MAX_STANZA)] if at >= 0 else b""
    match = re.search(rb"\nArchitecture: ([a-z0-9-]+)(?:\n|\Z)", stanza)
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
        if len(found) > MAX_OWNED:
            break
    return found
