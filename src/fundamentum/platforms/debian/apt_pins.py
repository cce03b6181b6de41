"""How much apt prefers one version over another: ``/etc/apt/preferences``, default release, shy repositories."""

import re
from typing import Final

import msgspec

from fundamentum.hosts.base import Host, HostError, listed, text_or_none
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.packages import Repository
from fundamentum.model.remark import Remark
from fundamentum.platforms.debian import control
from fundamentum.untrusted import name_patterns, patterns

DEFAULT: Final = 500
PREFERRED_RELEASE: Final = 990
MAX_NAMES: Final = 5000
"""Of packages, in all records: each is held against each package that is offered."""
_SIMPLE: Final = lazy_regex(r"(?:[A-Za-z0-9.+^$\\-]|\[[a-z0-9-]+\]|[A-Za-z0-9.\]][*+?]){1,80}")
"""Regular expressions without groups."""
_RELEASE_KEYS: Final = {"o": "origin", "l": "label", "a": "suite", "n": "codename", "c": "component"}


class Pin(msgspec.Struct, frozen=True):
    """One record: for which packages, from where or in which version, and how much it is preferred."""

    packages: tuple[str, ...]
    kind: str
    """``release``, ``origin`` or ``version``."""
    wanted: str
    priority: int

    @property
    def general(self) -> bool:
        """Whether it speaks of a repository rather than of single packages."""
        return self.packages == ("*",) and self.kind != "version"


class Pins(msgspec.Struct, frozen=True):
    """Everything that has a say in which version is chosen."""

    records: tuple[Pin, ...] = ()
    default_release: str = ""

    def priority(self, name: str, version: str, repository: Repository, site: str, shy: int | None) -> int:
        """The priority of one version.  ``shy`` is what the repository asks for itself (``NotAutomatic``).

        Source: apt_preferences(5): the first record that names the package counts, else the first general one.
        """
        matching = [pin for pin in self.records if _selects(pin, name) and _fits(pin, version, repository, site)]
        for pin in (*(path for path in matching if not path.general), *matching):
            return pin.priority
        if self.default_release and self.default_release in (repository.suite, repository.codename):
            return PREFERRED_RELEASE
        return DEFAULT if shy is None else shy


def probe(host: Host) -> tuple[Pins, list[Remark]]:
    """The records of all preference files, in apt's order."""
    remarks: list[Remark] = []
    folder = "/etc/apt/preferences.d"
    names = [name for name in listed(host, folder) if re.fullmatch(r"[A-Za-z0-9_.-]+?(\.pref)?", name)]
    paths = [f"{folder}/{name}" for name in names if name.endswith(".pref") or "." not in name]
    records: list[Pin] = []
    for path in ("/etc/apt/preferences", *paths):
        try:
            data = host.read(path, 1024 * 1024)
        except HostError as error:
            remarks.append(Remark("package preferences", f"{error}: which versions are preferred is unknown"))
            continue
        lines = b"\n".join(line for line in (data or b"").splitlines() if not line.startswith(b"#"))
        for stanza in re.split(rb"\n\s*\n", lines):
            records += _record(control.fields(stanza), path, remarks)
    if sum(len(record.packages) for record in records) > MAX_NAMES:
        why = f"more than {MAX_NAMES} names of packages: which versions are preferred is unknown"
        return Pins((), _default_release(host)), [Remark("package preferences", why)]
    return Pins(tuple(records), _default_release(host)), remarks


def shyness(release: dict[str, str]) -> int | None:
    """The priority of a repository that does not want to be chosen by itself."""
    if release.get("NotAutomatic", "").lower() == "yes":
        return 100 if release.get("ButAutomaticUpgrades", "").lower() == "yes" else 1
    return None


def _record(entry: dict[str, str], path: str, remarks: list[Remark]) -> list[Pin]:
    kind, _, wanted = entry.get("Pin", "").partition(" ")
    packages = tuple(entry.get("Package", "").split())
    priority = entry.get("Pin-Priority", "")
    if not entry:
        return []
    if not packages or kind not in ("release", "origin", "version") or not re.fullmatch(r"-?\d{1,6}", priority):
        remarks.append(Remark("package preferences", f"{path}: a record that cannot be read; apt may refuse it too"))
        return []
    odd = [package for package in packages if package.startswith("/") and not _is_judged(package.strip("/"))]
    if odd:
        remarks.append(Remark("package preferences", f"{path}: the pattern {odd[0]} is not judged"))
    return [Pin(packages, kind, wanted.strip(), int(priority))]


def _is_judged(pattern: str) -> bool:
    return _SIMPLE.fullmatch(pattern) is not None and patterns.search(pattern, "") is not None


def _selects(pin: Pin, name: str) -> bool:
    for package in pin.packages:
        if package.startswith("/") and package.endswith("/"):
            if _is_judged(package[1:-1]) and patterns.search(package[1:-1], name):
                return True
        elif name_patterns.fits(name, package):
            return True
    return False


def _fits(pin: Pin, version: str, repository: Repository, site: str) -> bool:
    match pin.kind:
        case "version":
            return name_patterns.fits(version, pin.wanted)
        case "origin":
            return name_patterns.fits(site, pin.wanted.strip('"'))
        case _:
            if pin.wanted == "*":
                return True
            if "=" not in pin.wanted:
                return name_patterns.fits(repository.suite, pin.wanted) or repository.codename == pin.wanted
            pairs = [part.strip().partition("=") for part in pin.wanted.split(",")]
            return all(
                name_patterns.fits(getattr(repository, _RELEASE_KEYS[key]), value)
                for key, _, value in pairs
                if key in _RELEASE_KEYS
            ) and any(key in _RELEASE_KEYS for key, _, _ in pairs)


def _default_release(host: Host) -> str:
    paths = ["/etc/apt/apt.conf", *(f"/etc/apt/apt.conf.d/{name}" for name in listed(host, "/etc/apt/apt.conf.d"))]
    origin = ""
    for path in paths:
        for value in re.findall(
            r'^[ \t]*APT::Default-Release[ \t]+"([^"\n]*)"', text_or_none(host, path) or "", re.M | re.I
        ):
            origin = value
    return origin
