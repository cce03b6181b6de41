"""The pools of a FastCGI process manager: who they run as, and what they set for PHP."""

import posixpath
import re
from collections.abc import Mapping
from typing import Final

import msgspec

from fundamentum.hosts.base import MAX_TEXT, Host, HostError, matching, text_of
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import Origin, Overridden
from fundamentum.model.php import ENDINGS, Setting
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_directive, is_plain
from fundamentum.php_files import ini
from fundamentum.survey.probes.fpm_refusals import Line

MAX_FILES: Final = 5000
MAX_OVERRIDES: Final = 5000
"""Lines of one pool that set something for PHP."""
MAX_VALUE: Final = 10_000
MAX_LINES: Final = 50_000
MAX_DEPTH: Final = 5
_ADDRESS: Final = lazy_regex(r"/|\d+$|.*:\d+$")
"""A path in full, a port, or an address with one."""
MANAGED: Final = ("request_terminate_timeout", ENDINGS)
FOR_APPLICATIONS: Final = frozenset({"env", "clear_env", "chdir", "rlimit_files"})
"""What a pool may set for what it runs, of which no more than the names is of interest."""


class Override(msgspec.Struct, frozen=True):
    """One ``php_value``, ``php_flag``, ``php_admin_value`` or ``php_admin_flag`` line."""

    name: str
    value: str | None
    admin: bool
    origin: Origin


class Pool(msgspec.Struct):
    """One pool, put together from all the files that speak of it."""

    name: str
    file: str
    folder: str | None = None
    """The directory whose files are included where this pool's file is, if it is one of several."""
    pattern: str = ""
    """What the name of a file there has to match so that it is included."""
    user: str | None = None
    works_in: str | None = None
    """The group that its processes have; None: the user's own."""
    listen: str | None = None
    chroot: str | None = None
    prefix: str = ""
    """What relative paths of it start from."""
    owner: str | None = None
    group: str | None = None
    mode: int = 0o660
    open: bool = False
    """Whether access lists are set for the socket."""
    overrides: list[Override] = msgspec.field(default_factory=list)
    manager: dict[str, Setting] = msgspec.field(default_factory=dict)
    """What the manager itself limits, by directive."""
    also: dict[str, None] = msgspec.field(default_factory=dict)
    """What else it sets that an application may rest on, by name."""


class PoolFiles(msgspec.Struct):
    """What the manager's files say."""

    pools: list[Pool]
    files: list[str]
    """The files that were read."""
    remarks: list[Remark]
    """What could not be read."""
    lines: list[Line]
    """All that they set, in the order in which it is read."""
    broken: Origin | None = None
    """Where a syntax error is."""


def probe(host: Host, main: str, constants: Mapping[str, str]) -> PoolFiles:
    """The pools that the manager's main file sets up.

    Source: the manager's own reader (``fpm_conf.c``): ini dialect, ``include`` with patterns, ``$pool`` in values;
    a section that comes again continues the pool of that name.
    """
    reader = _Reader(host, constants)
    reader.read(main)
    pools, remarks = reader.pools, reader.found.remarks
    odd = [
        pool
        for pool in pools.values()
        if not is_plain(pool.name) or (pool.user is not None and not is_plain(pool.user))
    ]
    for pool in pools.values():
        if pool.listen and pool.prefix and not _ADDRESS.match(pool.listen):
            pool.listen = posixpath.join(pool.prefix, pool.listen)
    for unusual in odd:
        del pools[unusual.name]
        remarks.append(Remark("FPM pools", f"{unusual.file}: a pool with an unusual name or user is left out"))
    reader.found.pools = list(pools.values())
    return reader.found


class _Reader:
    """One file after the other, as they include each other."""

    def __init__(self, host: Host, constants: Mapping[str, str]) -> None:
        self.host, self.constants = host, constants
        self.pools: dict[str, Pool] = {}
        self.found = PoolFiles([], [], [], [])

    def read(self, path: str, depth: int = 0, include: str = "") -> None:
        """A file with those that it includes.  ``include``: the pattern by which it is included itself."""
        pool_files = self.found
        if depth > MAX_DEPTH or len(pool_files.files) >= MAX_FILES:
            pool_files.remarks.append(Remark("FPM pools", f"{path}: too many included files; the rest is unknown"))
            return
        try:
            text = text_of(self.host, path, MAX_TEXT // 4)
        except HostError as error:
            pool_files.remarks.append(Remark("FPM pools", str(error)))
            return
        if text is None:
            return
        pool_files.files.append(path)
        parsed = ini.parse(text, self.constants)
        if parsed.broken_at:
            pool_files.broken = pool_files.broken or Origin(path, parsed.broken_at)
            why = f"{path}:{parsed.broken_at}: syntax error; the manager does not start with this file"
            pool_files.remarks.append(Remark("FPM pools", why))
        for entry in parsed.entries:
            self._take(entry, path, depth, include)

    def _take(self, entry: ini.Entry, path: str, depth: int, include: str) -> None:
        section = entry.section or ""
        if len(self.found.lines) < MAX_LINES:
            value = _expanded(section, entry.value)
            self.found.lines.append(Line(section, entry.name, entry.key, value, Origin(path, entry.line)))
        if entry.name == "include" and entry.value:
            for included in _included(self.host, entry.value, self.found.remarks):
                self.read(included, depth + 1, entry.value)
        elif section and section != "global":
            folder = posixpath.dirname(path) if include else None
            pool = self.pools.setdefault(section, Pool(section, path, folder, posixpath.basename(include)))
            _take(pool, entry, path)


def _expanded(pool: str, value: str | None) -> str | None:
    """A value with the pool's name in the place of ``$pool``."""
    if value is not None and len(value) + len(pool) * value.count("$") < MAX_VALUE:
        return value.replace("$pool", pool)
    return value


def _take(pool: Pool, entry: ini.Entry, path: str) -> None:
    value = _expanded(pool.name, entry.value)
    kind, _, suffix = entry.name.rpartition("_")
    if len(pool.overrides) >= MAX_OVERRIDES:
        return
    if entry.key and is_directive(entry.key) and kind in ("php", "php_admin") and suffix in ("value", "flag"):
        if suffix == "flag" and value is not None:
            value = "1" if value in ("1", "on", "yes", "true") else "0"
        pool.overrides.append(Override(entry.key, value, kind == "php_admin", Origin(path, entry.line)))
    elif entry.name in MANAGED and value is not None:  # of several lines the last one counts
        before = pool.manager.get(entry.name)
        lost = (Overridden(before.origin, before.value), *before.overridden[:20]) if before else ()
        pool.manager[entry.name] = Setting(value, Origin(path, entry.line), lost)
    elif entry.name == "user":
        pool.user = value
    elif entry.name == "group":
        pool.works_in = value
    elif entry.name == "prefix":
        pool.prefix = value or ""
    elif entry.name == "chroot":
        pool.chroot = value
    elif entry.name == "listen":
        pool.listen = value
    else:
        _take_socket(pool, entry.name, value or "")


def _take_socket(pool: Pool, name: str, value: str) -> None:
    """Who may write to the pool's socket; and of what else it sets, the names."""
    match name:
        case "listen.owner" if is_plain(value):
            pool.owner = value
        case "listen.group" if is_plain(value):
            pool.group = value
        case "listen.mode" if re.fullmatch(r"[0-7]{3,4}", value):
            pool.mode = int(value, 8)
        case "listen.acl_users" | "listen.acl_groups" if value:
            pool.open = True
            pool.also[name] = None
        case _ if name in FOR_APPLICATIONS:
            pool.also[name] = None


def _included(host: Host, pattern: str, remarks: list[Remark]) -> list[str]:
    folder = posixpath.dirname(pattern)
    try:
        host.names(folder)  # so that a directory that cannot be read is said
    except HostError as error:
        remarks.append(Remark("FPM pools", str(error)))
    return matching(host, posixpath.join("/", pattern))
