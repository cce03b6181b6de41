"""Samples of the environment that an application is configured with: which drivers they choose."""

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Final

from fundamentum.derive.result import Entry, Place
from fundamentum.untrusted.files import read_below

NAMES: Final = (".env.example", ".env.dist", ".env.sample", ".env", "env.example", ".env.prod", ".env.production")
MAX_SIZE: Final = 64 * 1024
_LINE: Final = re.compile(
    r"(?:export\s+)?([A-Z][A-Z0-9_]{1,60})\s*=\s*[\"']?([A-Za-z][A-Za-z0-9_+-]*)(?::|[\"']?\s*(?:#|$))"
)
_DATABASE: Final = re.compile(r"(?:DB|DATABASE)_(?:CONNECTION|DRIVER|TYPE|URL|DSN)$")
_STORE: Final = re.compile(
    r"(?:CACHE|SESSION|QUEUE|BROADCAST)_(?:DRIVER|STORE|CONNECTION|URL|DSN)$|^REDIS_URL$|^MESSENGER_\w+_DSN$"
)
_DRIVERS: Final = {
    "mysql": "pdo_mysql", "mysqli": "mysqli", "mariadb": "pdo_mysql", "pdo-mysql": "pdo_mysql", "pgsql": "pdo_pgsql",
    "postgres": "pdo_pgsql", "postgresql": "pdo_pgsql", "sqlite": "pdo_sqlite", "sqlite3": "pdo_sqlite",
}  # fmt: skip
_STORES: Final = {"rediss": "redis", "apc": "apcu", **{name: name for name in ("redis", "memcached", "apcu", "amqp")}}
_WHY: Final = "a sample of its configuration chooses it"


def chosen_drivers(root: str, base: str, named: frozenset[str]) -> Iterator[Entry]:
    """The extensions that samples choose, but those that are ``named`` by something else already."""
    above = f"{base.strip('/')}/" if base.strip("/") else ""
    seen = set(named)
    for name in NAMES:
        try:
            text = read_below(Path(root), f"{above}{name}", MAX_SIZE).decode("utf-8", "replace")
        except OSError:
            continue
        for number, line in enumerate(text.splitlines(), 1):
            match = _LINE.match(line.strip())
            extension = _chosen(match[1], match[2].lower()) if match else ""
            if match and extension and extension not in seen:
                seen.add(extension)
                place = Place(f"{above}{name}", number, f"{match[1]}={match[2]}", "the sample chooses it")
                yield Entry("extension", (extension,), "recommended", "", _WHY, (place,))


def _chosen(variable: str, value: str) -> str:
    """The extension for what a variable is set to; empty where that chooses none."""
    if _DATABASE.search(variable):
        return _DRIVERS.get(value, "")
    return _STORES.get(value, "") if _STORE.search(variable) else ""
