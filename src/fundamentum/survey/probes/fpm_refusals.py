"""What makes PHP's process manager refuse to start, all of its pools with it: one wrong line in any of its files.

Source: ``fpm_conf.c`` and ``fpm_unix.c``; each rule was asked of real managers of three branches (``php-fpm -t``).
"""

import posixpath
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Final

import msgspec

from fundamentum.catalog import branch_key
from fundamentum.hosts.base import Host, text_or_none
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.origin import Origin
from fundamentum.model.php import Refusal

_GLOBAL: Final = frozenset(
    "emergency_restart_threshold emergency_restart_interval process_control_timeout process.max process.priority "
    "daemonize rlimit_files rlimit_core events.mechanism pid error_log syslog.facility syslog.ident log_buffering "
    "log_level log_limit systemd_interval include".split()
)
_POOL: Final = frozenset(
    "prefix user group listen listen.backlog listen.acl_users listen.acl_groups listen.owner listen.group listen.mode "
    "listen.allowed_clients process.priority process.dumpable pm pm.max_children pm.start_servers "
    "pm.min_spare_servers pm.max_spare_servers pm.process_idle_timeout pm.max_requests pm.status_path ping.path "
    "ping.response access.log access.format slowlog request_slowlog_timeout request_slowlog_trace_depth "
    "request_terminate_timeout request_terminate_timeout_track_finished rlimit_files rlimit_core chroot chdir "
    "catch_workers_output decorate_workers_output clear_env security.limit_extensions apparmor_hat include".split()
)
_SINCE: Final = {"pm.status_listen": "8.0", "pm.max_spawn_rate": "8.2", "access.suppress_path": "8.2"}
"""What later branches have learnt."""
_KEYED: Final = frozenset("env php_value php_flag php_admin_value php_admin_flag access.suppress_path".split())
_SWITCHES: Final = frozenset(
    "daemonize log_buffering process.dumpable catch_workers_output decorate_workers_output clear_env "
    "request_terminate_timeout_track_finished".split()
)
_NUMBERS: Final = frozenset(
    "process.max rlimit_files log_limit listen.backlog pm.max_children pm.start_servers pm.min_spare_servers "
    "pm.max_spare_servers pm.max_requests pm.max_spawn_rate request_slowlog_trace_depth".split()
)
_TIMES: Final = frozenset("pm.process_idle_timeout request_slowlog_timeout request_terminate_timeout".split())
_BOOLEAN: Final = lazy_regex(r"|[01]|on|off|yes|no|true|false|none", re.I)
_NUMBER: Final = lazy_regex(r"-?\d*")
_TIME: Final = lazy_regex(r"\d*[smhd]?")
_SECONDS: Final = {"": 1, "s": 1, "m": 60, "h": 3600, "d": 86400}
_LEVELS: Final = frozenset({"debug", "notice", "warning", "warn", "error", "alert"})
_DIRECTORIES: Final = ("prefix", "chroot", "chdir")
_LOGS: Final = ("access.log", "slowlog")


class Line(msgspec.Struct, frozen=True):
    """One line of the manager's files."""

    section: str
    """Of the pool; ``global``, or empty before the first."""
    name: str
    key: str | None
    value: str | None
    origin: Origin


def refusal(host: Host, lines: Sequence[Line], broken: Origin | None, branch: str) -> Refusal | None:
    """The first line that keeps the manager from starting, as far as lines that are there tell; None: none does.

    What is missing altogether is not told of a pool that says nothing of its processes: more may be left out there.
    """
    if broken:
        return Refusal("a syntax error", broken)
    known = _known(branch)
    for line in lines:
        if why := _line_refused(line, known):
            return Refusal(why, line.origin)
    pools: dict[str, dict[str, Line]] = {}
    for line in lines:
        if line.section not in ("", "global"):
            pools.setdefault(line.section, {})[line.name] = line
    return next(_between_lines(host, pools), None)


def _between_lines(host: Host, pools: Mapping[str, Mapping[str, Line]]) -> Iterator[Refusal]:
    """What lines of one pool, or of two, come to together, or with what the system has."""
    accounts = _accounts(host)
    for pool in pools.values():
        yield from _of_processes(pool)
        yield from _of_paths(pool)
        yield from _of_requests(pool)
    for pool in pools.values():
        yield from _of_users(pool, accounts)
        # Where nothing runs, a directory may be one that is mounted later.
        yield from _of_places(pool, host) if host.whole and host.live else ()
    yield from _listening_twice(pools)


def _known(branch: str) -> frozenset[str]:
    return _POOL | {name for name, since in _SINCE.items() if branch_key(branch) >= branch_key(since)}


def _line_refused(line: Line, known: frozenset[str]) -> str:
    """Why one line by itself is refused; empty if it is not."""
    if line.section in ("", "global"):
        if line.name not in _GLOBAL or line.key is not None:
            return f"'{line.name}' is nothing that it knows for all pools"
    elif line.key is not None:
        if line.name not in _KEYED or (line.name in _SINCE and line.name not in known):
            return f"'{line.name}[...]' is nothing that it knows"
    elif line.name not in known:
        return f"'{line.name}' is nothing that it knows"
    value = (line.value or "").strip()
    if line.value is None:
        return ""
    if line.name in _SWITCHES and not _BOOLEAN.fullmatch(value):
        return f"{line.name} = {value} is neither on nor off"
    if line.name in _NUMBERS and not _NUMBER.fullmatch(value):
        return f"{line.name} = {value} is no number"
    if line.name in _TIMES and not _TIME.fullmatch(value):
        return f"{line.name} = {value} is no time"
    if line.name == "pm" and value not in ("static", "dynamic", "ondemand"):
        return f"pm = {value} is none of static, dynamic, ondemand"
    if line.name == "log_level" and value.lower() not in _LEVELS:
        return f"log_level = {value} is no level"
    return ""


def _number(pool: Mapping[str, Line], name: str, default: int = 0) -> int | None:
    """A number of a pool; None: it is not known."""
    line = pool.get(name)
    if line is None:
        return default
    return int(line.value) if line.value and re.fullmatch(r"-?\d+", line.value.strip()) else None


def _of_processes(pool: Mapping[str, Line]) -> Iterator[Refusal]:
    """Numbers of processes that contradict each other."""
    way, most = pool.get("pm"), _number(pool, "pm.max_children")
    if way is None or way.value is None or most is None:
        return
    at = pool.get("pm.max_children", way).origin
    if most < 1:
        yield Refusal("pm.max_children is not above 0", at)
    if way.value == "ondemand" and (idle := pool.get("pm.process_idle_timeout")) and _seconds(idle.value) == 0:
        yield Refusal("pm.process_idle_timeout is 0", idle.origin)
    if way.value != "dynamic":
        return
    numbers = [_number(pool, f"pm.{name}") for name in ("min_spare_servers", "max_spare_servers", "start_servers")]
    least, spare, first = numbers
    if least is None or spare is None or first is None:
        return
    at = next(
        (pool[f"pm.{name}"].origin for name in ("max_spare_servers", "min_spare_servers") if f"pm.{name}" in pool), at
    )
    if least < 1 or spare < 1:
        yield Refusal("pm.min_spare_servers and pm.max_spare_servers have to be above 0", at)
    elif least > most or spare > most:
        yield Refusal(
            f"pm.min_spare_servers ({least}) and pm.max_spare_servers ({spare}) exceed pm.max_children ({most})", at
        )
    elif spare < least:
        yield Refusal(f"pm.max_spare_servers ({spare}) is less than pm.min_spare_servers ({least})", at)
    elif first and not least <= first <= spare:
        at = pool["pm.start_servers"].origin
        yield Refusal(f"pm.start_servers ({first}) is not between the spare ones ({least} and {spare})", at)


def _seconds(value: str | None) -> int | None:
    match = re.fullmatch(r"(\d+)([smhd]?)", (value or "").strip())
    return int(match[1]) * _SECONDS[match[2]] if match else None


def _of_paths(pool: Mapping[str, Line]) -> Iterator[Refusal]:
    """Addresses of the manager's own pages."""
    for name in ("pm.status_path", "ping.path"):
        line = pool.get(name)
        value = (line.value or "").strip() if line else ""
        if line and value and (not value.startswith("/") or len(value) < 2):
            yield Refusal(f"{name} = {value} is no path", line.origin)


def _of_requests(pool: Mapping[str, Line]) -> Iterator[Refusal]:
    """A log of slow requests that goes nowhere, or begins after they are ended."""
    slow, end = (pool.get(f"request_{name}_timeout") for name in ("slowlog", "terminate"))
    after = _seconds(slow.value) if slow else None
    if slow and after:
        if not (pool.get("slowlog") and (pool["slowlog"].value or "").strip()):
            yield Refusal("request_slowlog_timeout is set, and no slowlog", slow.origin)
        elif end and (ends := _seconds(end.value)) and after > ends:
            yield Refusal(
                f"request_slowlog_timeout ({after} s) is longer than request_terminate_timeout ({ends} s)", slow.origin
            )


Accounts = tuple[frozenset[str], frozenset[str]] | None


def _accounts(host: Host) -> Accounts:
    """The users and groups of the system by name; None where others may come from elsewhere, or it is not known."""
    switch = text_or_none(host, "/etc/nsswitch.conf") or ""
    if re.search(
        r"^[ \t]*(?:passwd|group):(?!(?:[ \t]+(?:files|compat|systemd|altfiles|\[[^\]\n]{0,80}\]))*[ \t]*$)",
        switch,
        re.M,
    ):
        return None
    users, groups = (
        frozenset(line.partition(":")[0] for line in (text_or_none(host, path) or "").splitlines())
        for path in ("/etc/passwd", "/etc/group")
    )
    return (users, groups) if "root" in users and "root" in groups else None


def _of_users(pool: Mapping[str, Line], accounts: Accounts) -> Iterator[Refusal]:
    """Users and groups that the system does not have."""
    if accounts is None:
        return
    for name in ("user", "group", "listen.owner", "listen.group"):
        line = pool.get(name)
        value = (line.value or "").strip() if line else ""
        there = accounts[name.endswith("group")]
        if line and value and not value.isdigit() and value not in there:
            yield Refusal(f"{name} = {value} is not there", line.origin)


def _of_places(pool: Mapping[str, Line], host: Host) -> Iterator[Refusal]:
    """Directories that have to be there."""
    for name in (*_DIRECTORIES, *_LOGS):
        line = pool.get(name)
        value = (line.value or "").strip() if line else ""
        away = not value.startswith("/") or value.startswith(("/proc/", "/dev/")) or "chroot" in pool.keys() - {name}
        if line is None or away or (name == "slowlog" and "request_slowlog_timeout" not in pool):
            continue
        folder = posixpath.normpath(posixpath.dirname(value) if name in _LOGS else value)
        about = host.stat(folder)
        # Where the directory above is not there either, more of the system may be left out.
        if (about is None or not about.is_directory) and host.stat(posixpath.dirname(folder)):
            yield Refusal(f"{name} = {value}: there is no directory {folder}", line.origin)


def _listening_twice(pools: Mapping[str, Mapping[str, Line]]) -> Iterator[Refusal]:
    """Two pools at one address."""
    seen: dict[str, str] = {}
    for name, pool in pools.items():
        line = pool.get("listen")
        value = (line.value or "").strip() if line else ""
        if line and value and (before := seen.setdefault(value, name)) != name:
            yield Refusal(f"the pools {before} and {name} both listen at {value}", line.origin)
