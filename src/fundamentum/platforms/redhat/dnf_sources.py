"""The repositories that dnf is configured to use, and where its cache has them.  Source: dnf.conf(5)."""

import configparser
import re
from collections.abc import Iterator
from typing import Final

import msgspec

from fundamentum.hosts.base import Host, listed, matching, text_or_none
from fundamentum.model.remark import Remark
from fundamentum.platforms.redhat.dnf_modules import configuration
from fundamentum.untrusted.numbers import whole

CACHES: Final = ("/var/cache/dnf", "/var/cache/libdnf5")
REPOSITORIES: Final = ("/etc/yum.repos.d/*.repo", "/etc/distro.repos.d/*.repo", "/usr/share/dnf5/repos.d/*.repo")
DEFAULT_PRIORITY: Final = 99
MAX_EXCLUDED: Final = 1000
"""Patterns of names, each of which is held against each package that is offered."""


class Source(msgspec.Struct):
    """One repository that is configured and switched on."""

    id: str
    name: str
    priority: int
    excluded: tuple[str, ...]
    hotfixes: bool
    """Whether its packages count even where a module stream is switched on."""
    folder: str | None = None


def configured(host: Host, remarks: list[Remark]) -> Iterator[Source]:
    """The repositories that are switched on, in the order in which they are configured."""
    folders = {name: f"{cache}/{name}/repodata" for cache in CACHES for name in listed(host, cache)}
    main = configuration(text_or_none(host, "/etc/dnf/dnf.conf"))
    everywhere = _excluded(main, "main", "/etc/dnf/dnf.conf", remarks)
    for path in (path for pattern in REPOSITORIES for path in matching(host, pattern)):
        parser = configuration(text_or_none(host, path))
        for name in parser.sections():
            if not _is_on(parser, name, "enabled", "1"):
                continue
            own = re.compile(re.escape(name) + "-[0-9a-f]{16}")
            folder = next((at for folder_name, at in folders.items() if own.fullmatch(folder_name)), None)
            if folder is None:
                remarks.append(Remark("package indexes", f"{name}: nothing of it in dnf's cache; run dnf makecache"))
            priority = parser.get(name, "priority", fallback="")
            yield Source(
                name,
                parser.get(name, "name", fallback=name) or name,
                min(number, 10_000) if (number := whole(priority)) is not None else DEFAULT_PRIORITY,
                (*everywhere, *_excluded(parser, name, path, remarks)),
                _is_on(parser, name, "module_hotfixes", "0"),
                folder,
            )


def _is_on(parsed: configparser.ConfigParser, section: str, key: str, fallback: str) -> bool:
    return (parsed.get(section, key, fallback=fallback) or "").strip().lower() in ("1", "yes", "true", "on")


def _excluded(parsed: configparser.ConfigParser, section: str, path: str, remarks: list[Remark]) -> tuple[str, ...]:
    words = " ".join(parsed.get(section, key, fallback="") or "" for key in ("excludepkgs", "exclude"))
    patterns = tuple(dict.fromkeys(re.split(r"[\s,]+", words.strip()))) if words.strip() else ()
    if len(patterns) > MAX_EXCLUDED:
        why = f"{path}: more than {MAX_EXCLUDED} patterns of packages that are left out; the others are not looked at"
        remarks.append(Remark("package indexes", why))
    return patterns[:MAX_EXCLUDED]
