"""Needs in words."""

from typing import Final

NAMES: Final = {
    "php": "PHP",
    "uploads:largest": "largest upload",
    "uploads:files": "files in one upload",
    "requests:longest": "longest request",
    "forms:fields": "fields in a form",
    "host:time_zone": "time zone",
    "host:https": "HTTPS",
    "host:disk": "free disk",
}
"""Those whose name is not made of their kind and what they are about."""


def in_words(need: str) -> str:
    """``extension:pdo_mysql|pdo_pgsql`` as *extension pdo_mysql or pdo_pgsql*."""
    kind, _, names = need.partition(":")
    kind = "" if kind == "host" else kind
    return NAMES.get(need) or f"{kind} {' or '.join(names.split('|'))}".strip()
