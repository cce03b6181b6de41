"""Installed packages of a Debian-family system, and which of them owns which extension file."""

import re
from typing import Final

import msgspec

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
_ABSENT: Final = (" not-installed", " config-files")
MAX_OWNED = 200_000
"""Files whose package is remembered."""


class Database(msgspec.Struct):
    """What dpkg's status file says."""

    installed: tuple[Installed, ...] | None = None
    """The packages whose state is ``installed``; None: it could not be read."""
    waiting: frozenset[str] = frozenset()
    """Packages that are not installed, and on hold: they are not to be."""
    remarks: tuple[Remark, ...] = ()


def probe(host: Host) -> Database:
    """The packages of a system.  Source: dpkg(1), Debian policy on control files."""
    try:
        data = host.read(STATUS, MAX_STATUS)
    except HostError as error:
        return _unknown(f"{error}: what is installed is unknown")
    if data is None:
        return Database()
    remarks: list[str] = []
    try:
        data.decode("utf-8")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        remarks.append(f"{STATUS}:{line}: not UTF-8; read as far as it makes sense")
    packages: list[Installed] = []
    half: list[str] = []
    waiting: set[str] = set()
    for stanza in control.stanzas(data):
        entry = control.fields(stanza)
        host.budget.tick()
        name, status = entry.get("Package", ""), entry.get("Status", "")
        if control.PACKAGE_NAME.fullmatch(name) and status.endswith(_ABSENT):
            waiting |= {name} if status.startswith("hold ") else set()
        elif not control.PACKAGE_NAME.fullmatch(name) or not is_version(entry.get("Version", "")):
            remarks.append(f"{STATUS}: breaks off, or has a stanza without a package or with an odd version")
        elif not status.endswith(" installed"):
            half += [name] if status else []
        elif len(packages) >= MAX_INSTALLED:
            return _unknown(f"{STATUS}: more packages than any system has: not believed")
        else:
            held = status.startswith("hold ")
            packages.append(Installed(name, entry["Version"], entry.get("Provides", ""), held, _bound(entry)))
    if data and not data.endswith(b"\n"):
        remarks.append(f"{STATUS}: the file breaks off; packages after that point are unknown")
    if half:
        remarks.append(f"{', '.join(half[:5])}: dpkg was interrupted; run dpkg --configure -a before anything else")
    said = tuple(Remark("installed packages", why) for why in remarks[:5])
    return Database(tuple(sorted(packages, key=lambda package: package.name)), frozenset(waiting), said)


def _unknown(why: str) -> Database:
    return Database(remarks=(Remark("installed packages", why),))


def _bound(entry: dict[str, str]) -> str:
    """The alternatives that ask for one version, or for less than one, as they stand."""
    groups = f"{entry.get('Pre-Depends', '')},{entry.get('Depends', '')}".split(",")
    return ", ".join(group.strip() for group in groups if re.search(r"\((?:=|<<|<=|<)", group))


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
    by_path: dict[str, str] = {}
    try:
        names = host.names(INFO)
    except HostError:
        return by_path
    for name in names:
        if not name.endswith(".list") or "php" not in name:
            continue
        try:
            text = text_of(host, f"{INFO}/{name}") or ""
        except HostError:
            continue
        package = name.removesuffix(".list").partition(":")[0]
        by_path |= {line: package for line in text.splitlines() if line.startswith(directories)}
        if len(by_path) > MAX_OWNED:
            break
    return by_path
