"""What stands in the tables of a package manager's manifest, within bounds and whatever its makers wrote there."""

import itertools
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, Final

from fundamentum.catalog import canonical
from fundamentum.derive.application.walk import BUNDLED

MAX_NAMES: Final = 1000
"""Names in one table of a manifest."""
MAX_TEXT: Final = 300
"""Characters of a name, a version, a reason."""
_LIBRARIES: Final = {  # lib-X speaks of the library that an extension of PHP brings
    "curl": "curl", "gd": "gd", "gmp": "gmp", "icu": "intl", "imagemagick": "imagick", "libxml": "libxml",
    "libxslt": "xsl", "librabbitmq": "amqp", "openssl": "openssl", "libsodium": "sodium", "sodium": "sodium",
    "zip": "zip", "libzip": "zip", "zlib": "zlib", "mbstring": "mbstring", "fileinfo": "fileinfo", "ldap": "ldap",
    "pq": "pgsql", "memcached": "memcached", "mysqlnd": "mysqlnd", "iconv": "iconv",
}  # fmt: skip


def under_vendor(path: str) -> bool:
    """Whether a path leads through a directory for other people's libraries."""
    return not BUNDLED.isdisjoint(path.lower().split("/"))


def extension_of(name: str) -> str:
    """The extension that an entry of the platform speaks of: ``ext-gd``, ``lib-icu``; empty for any other package."""
    kind, _, rest = name.lower().partition("-")
    if kind == "ext" and rest:
        return canonical(rest)
    return _LIBRARIES.get(rest, "") if kind == "lib" else ""


def table_of(value: Any) -> dict[str, str]:
    """The names of a table with their texts; what is no table is empty."""
    if not isinstance(value, Mapping):
        return {}
    pairs = ((str(name)[:MAX_TEXT], text) for name, text in value.items() if isinstance(text, str))
    return dict(itertools.islice(pairs, MAX_NAMES))


def text_of(value: Any) -> str:
    """A text or a number as a text; empty for anything else."""
    return str(value)[:MAX_TEXT] if isinstance(value, str | int | float) else ""


def list_of(value: Any) -> list[Any]:
    """A list; what is none is empty."""
    return value if isinstance(value, list) else []


def names_of(packages: Iterable[Any]) -> Iterator[str]:
    """What packages are called; empty for one without a name."""
    for package in packages:
        if isinstance(package, Mapping):
            yield str(package.get("name") or "")
