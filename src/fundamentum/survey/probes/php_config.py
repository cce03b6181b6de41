"""The effective configuration of one runtime: which files count, in which order, and who wins."""

import posixpath
import re
from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache
from typing import Final, Literal

import msgspec
from msgspec.structs import replace

from fundamentum.catalog import START_ONLY, TAKING, Facts, catalogued
from fundamentum.hosts.base import Host, HostError, text_of
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.installation import INI_NAMES, Installation
from fundamentum.model.layers import Assignment, Section
from fundamentum.model.origin import BUILT_IN, Origin, Overridden
from fundamentum.model.php import Sample, Setting
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_directive
from fundamentum.php_files import ini
from fundamentum.survey.probes.fpm_pools import Override
from fundamentum.untrusted.secrets import names_a_secret, setting_without_secrets, without_credentials

_EDITABLE: Final = lazy_regex(r"\s*;?\s*((?:zend_)?extension|[A-Za-z_][A-Za-z0-9_.]*)\s*=")
MAX_INI: Final = 1024 * 1024
"""Bytes of one ini file: the longest that is shipped has 70,000."""
MAX_FILES: Final = 2000
"""Files of a scan directory."""
MAX_COMMENTED: Final = 500
_COMMENTED: Final = lazy_regex(r"\s*;\s*([a-z_][a-z0-9_.]*)\s*=")
MAX_LINES: Final = 60_000
"""Lines that one runtime reads."""
MAX_NAME: Final = 200
MAX_LOST: Final = 20
"""Places that lost which are kept, the last ones."""
_SECTION: Final = lazy_regex(r"\s*(PATH|HOST)\s*=\s*(.+?)\s*", re.I)
MAX_SECTIONS: Final = 2000
UNREAD: Final = ""
"""The name of a line that stands for a file that could not be read: it may have set anything."""


class Line(msgspec.Struct, frozen=True):
    """One configuration line that counts: what it sets, and where it stands."""

    name: str
    value: str | None
    origin: Origin
    by: Literal["ini", "start", "pool"] = "ini"
    """What kind of place it is, as :attr:`Setting.set_by` tells."""


class Configuration(msgspec.Struct):
    """All lines of one runtime in the order in which PHP reads them."""

    ini_file: str | None
    scan_dir: str | None
    lines: list[Line] = msgspec.field(default_factory=list)
    files: list[str] = msgspec.field(default_factory=list)
    unread: list[str] = msgspec.field(default_factory=list)
    remarks: list[Remark] = msgspec.field(default_factory=list)
    sections: list[Section] = msgspec.field(default_factory=list)
    ini_lines: dict[int, str] = msgspec.field(default_factory=dict)
    ini_length: int = 0
    sample: Sample | None = None
    commented: Mapping[str, int] = msgspec.field(default_factory=dict)
    packaged: bool = True
    """Whether what packages switch on is read."""

    def loads(self, kind: str) -> list[Line]:
        """The ``extension=`` or ``zend_extension=`` lines, in order."""
        return [line for line in self.lines if line.name.lower() == kind and line.value]


def probe(host: Host, installation: Installation, facts: Facts) -> Configuration:
    """Read ``php.ini`` and the scan directories of one PHP.  Source: php.net, "The configuration file"."""
    usual = tuple(posixpath.join(installation.ini_folder, name) for name in (INI_NAMES[installation.sapi], "php.ini"))
    places = usual if installation.ini_files is None else installation.ini_files
    ini_file = next((path for path in places if host.stat(path)), places[-1] if places else "")
    scanned = [folder for folder in installation.scan_dirs if host.stat(folder)]
    configuration = Configuration(ini_file if host.stat(ini_file) else None, scanned[-1] if scanned else None)
    configuration.packaged = installation.packaged_dirs is None or any(
        folder in installation.scan_dirs for folder in installation.packaged_dirs
    )
    paths = [ini_file] if ini_file else []
    paths += _scanned(host, scanned, configuration)
    paths += configuration.unread  # a directory stands for all its files, and cannot be read as a file either
    values: dict[str, str] = {}

    def variable(name: str) -> str | None:
        # PHP looks among the values read so far before it looks into the environment, which cannot be seen here.
        return values.get(name)

    for path in paths:
        try:
            text = text_of(host, path, MAX_INI)
            if len(configuration.lines) > MAX_LINES:
                raise HostError(f"{path}: more than {MAX_LINES:,} lines of configuration come before it: not read")
        except HostError as error:
            configuration.unread.append(path)
            configuration.lines.append(Line(UNREAD, None, Origin(path)))
            configuration.remarks.append(Remark("configuration", f"{error}: what it sets or loads is unknown"))
            continue
        if text is None:
            if path != ini_file:
                configuration.remarks.append(Remark("configuration", f"{path}: a link to a file that does not exist"))
            continue
        configuration.files.append(path)
        if path == ini_file:
            configuration.commented = _commented(text)
        if path == ini_file and not scanned:
            configuration.ini_lines, configuration.ini_length = _editable(text)
        parsed = ini.parse(text, facts.constants, variable if "${" in text else None)
        if parsed.broken_at:
            configuration.remarks.append(
                Remark("configuration", f"{path}:{parsed.broken_at}: syntax error; PHP ignores the file from here on")
            )
        _take(parsed.entries, path, configuration, values)
    if configuration.ini_file is None and installation.sample:
        configuration.sample = _sample(host, installation.sample, facts)
    return configuration


def _sample(host: Host, path: str, facts: Facts) -> Sample | None:
    """A php.ini that PHP brings, as it would count if it were copied."""
    try:
        text = text_of(host, path, MAX_INI) or ""
    except HostError:
        return None
    entries = ini.parse(text, facts.constants, lambda _: None).entries
    values = {entry.name: entry.value for entry in entries if entry.key is None and entry.value is not None}
    lines, length = _editable(text)
    return Sample(path, lines, length, {name: value for name, value in values.items() if is_directive(name)})


def _scanned(host: Host, folders: Iterable[str], configuration: Configuration) -> Iterator[str]:
    """The files of the scan directories, in the order in which PHP reads them."""
    for folder in folders:
        try:
            names = [name for name in host.names(folder) if name.endswith(".ini")]
            if len(names) > MAX_FILES:
                raise HostError(f"{folder}: more than {MAX_FILES:,} files: not read")
        except HostError as error:
            configuration.unread.append(folder)
            configuration.remarks.append(
                Remark("configuration", f"{error}: what the files there set or load is unknown")
            )
            continue
        yield from (posixpath.join(folder, name) for name in names)


def _take(entries: Iterable[ini.Entry], path: str, configuration: Configuration, values: dict[str, str]) -> None:
    """The lines of one file, in their order; ``values`` is what has been set so far."""
    special: re.Match[str] | None = None
    for entry in entries:
        # Once such a section has begun, those of other names go on with it, up to the end of the file.
        special = _SECTION.fullmatch(entry.section or "") or special
        if match := special if entry.section else None:
            _in_section(configuration, match, entry, path)  # it holds for some directories or host names only
        elif entry.key is None and len(entry.name) < MAX_NAME:
            configuration.lines.append(Line(entry.name, entry.value, Origin(path, entry.line)))
            if entry.value is not None:
                values[entry.name] = entry.value


def _in_section(configuration: Configuration, match: re.Match[str], entry: ini.Entry, path: str) -> None:
    """One line of a section; lines of one section in one file stay together."""
    kind: Literal["path", "host"] = "path" if match[1].lower() == "path" else "host"
    if entry.key is not None or not is_directive(entry.name) or names_a_secret(entry.name):
        return
    assignment = Assignment(entry.name, entry.value and without_credentials(entry.value), Origin(path, entry.line))
    last = configuration.sections[-1] if configuration.sections else None
    wanted = match[2].strip("\"'")
    if last and (last.kind, last.match) == (kind, wanted) and last.values and last.values[-1].origin.file == path:
        configuration.sections[-1] = msgspec.structs.replace(last, values=(*last.values, assignment))
    elif len(configuration.sections) < MAX_SECTIONS:
        configuration.sections.append(Section(kind, wanted, (assignment,)))


@lru_cache(maxsize=16)
def _commented(text: str) -> Mapping[str, int]:
    """The directives of which a line is commented out, each with the number of the first such line."""
    sections: dict[str, int] = {}
    for number, line in enumerate(text.split("\n"), 1):
        if (
            "=" in line
            and (match := _COMMENTED.match(line))
            and is_directive(match[1])
            and len(sections) < MAX_COMMENTED
        ):
            sections.setdefault(match[1], number)
    return sections


def _editable(text: str) -> tuple[dict[int, str], int]:
    """The lines that a change would touch: those that load or set something, also where they are commented out."""
    lines = text.split("\n")
    length = len(lines) - (lines[-1] == "")
    kept = {}
    for number, line in enumerate(lines[:length], 1):
        match = _EDITABLE.match(line) if "=" in line else None
        hidden = match is None or names_a_secret(match[1]) or match[1] == "sendmail_path"
        if not hidden and without_credentials(line) == line and len(line) < 500:
            kept[number] = line
    return kept, length


def settings(
    facts: Facts, sapi: str, owners: set[str], extension_dir: str, lines: Iterable[Line], overrides: Iterable[Override]
) -> dict[str, Setting]:
    """The effective value of every directive this runtime knows.

    ``owners`` are the loaded extensions: a directive exists only while its extension is loaded.  In a pool,
    ordinary values are applied first and the administrator's (``php_admin_*``) last; of two lines for the same
    directive the manager applies the one it read first last, so that one wins (``fpm_conf.c`` puts each new line
    at the head of its list; tested against a real pool).
    """
    values: dict[str, Setting] = {}
    shipped = facts.packaged["web"].keys() | facts.packaged["cli"].keys()
    foreign = bool(owners - catalogued(facts.branch))  # an extension nobody has looked at may know any directive
    for name, directive in facts.directives.items():
        default = facts.default(name, sapi)
        if default is not None and (directive.owner in ("core", "standard") or directive.owner in owners):
            values[name] = Setting(extension_dir if name == "extension_dir" and extension_dir else default)
    defaults = dict(values)
    ordered = [line for line in lines if line.name.lower() not in ("extension", "zend_extension")]
    latest_first = list(overrides)[::-1]
    admin = [Line(o.name, o.value, o.origin, "pool") for o in latest_first if o.admin and _changes_value(o)]
    ordered += [Line(o.name, o.value, o.origin, "pool") for o in latest_first if not o.admin and _changes_value(o)]
    locked = {line.name for line in admin}
    ordered += admin
    for line in ordered:
        if line.name == UNREAD:
            values = {name: Setting(None, line.origin) for name in values}
            continue
        known = facts.directives.get(line.name)
        if line.name not in values and (known is not None or line.name in shipped or not foreign):
            continue  # belongs to an extension that is not loaded, to another way of running PHP, or to nothing at all
        if not is_directive(line.name):
            continue
        if line.value is not None and facts.refuses(line.name, line.value):
            if line.by != "pool" and line.name in values:  # of all files the last line counts, or else none of them
                values[line.name] = msgspec.structs.replace(defaults[line.name], origin=line.origin)
            continue
        before = values.get(line.name)
        if line.name in TAKING and line.by == "pool" and before and before.value and line.value is not None:
            line = msgspec.structs.replace(line, value=f"{before.value},{line.value}")
        lost = before.overridden if before else ()
        if before and not before.origin.built_in:
            lost = (Overridden(before.origin, before.value), *lost[: MAX_LOST - 1])
        values[line.name] = Setting(line.value, line.origin, lost, set_by=line.by)
    for name, value in facts.forced.get(sapi, {}).items():
        before = values.get(name)
        lost = (Overridden(before.origin, before.value),) if before and not before.origin.built_in else ()
        values[name] = Setting(value, BUILT_IN, lost)
    values |= {name: replace(values[name], admin=True) for name in locked if name in values}
    return {name: setting_without_secrets(name, setting) for name, setting in sorted(values.items())}


def _changes_value(override: Override) -> bool:
    """Loading an extension from a pool acts at once, and what counts at the start only does not count there."""
    return override.name != "extension" and override.name not in START_ONLY
