"""Database servers: *MySQL 8.0+ or MariaDB 10.6+*; and their variables: *max_allowed_packet of at least 16M*."""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.catalog.databases import names_of
from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import LATER, VERSION, Statement, installs_packages, level_of

_PRODUCT: Final = lazy_regex(
    rf"(?<![\w-])(MariaDB|MySQL|Postgre(?:SQL|s)|SQLite)(?:\s?3(?![.\d]))?(?![\w-])(?:\s+(?:database|server|version|db))*"
    rf"[\s:(]*(?:>=|≥|at least|minimum|min\.?|ab(?: Version)?\b|version|v)?\s*(?:{VERSION})?({LATER})?",
    re.I,
)
_NAMES: Final = {
    "mariadb": "mariadb",
    "mysql": "mysql",
    "postgresql": "postgresql",
    "postgres": "postgresql",
    "sqlite": "sqlite",
}
_LEAST: Final = lazy_regex(
    rf"\b(?:(?:not|longer) supported|unsupported|too old|outdated|found|installed|detected)\b.{{0,40}}?"
    rf"(?:\b{VERSION}(?: is)? (?:the minimum|(?:is )?required|needed|or )|"
    rf"\bup(?:grade|date)\b.{{0,20}}?\bto {VERSION})",
    re.I,
)
_TOO_OLD: Final = lazy_regex(
    r"[\s,]*(?:is |was |and )*(?:no longer supported|not supported|unsupported|too old|outdated)\b", re.I
)
_BOTH: Final = lazy_regex(
    r"(?<![\w-])(MySQL|MariaDB)\s*(?:/|\bor\b)\s*(MySQL|MariaDB)\s*(?:>=|≥)?\s*([4-9](?:\.\d{1,3}){0,2})(?![\d.])", re.I
)
"""One version for both, as both have had it: from 10 on they are MariaDB's alone."""
_SIZE: Final = lazy_regex(r"(\d+)\s*([KMG])?(?:i?B)?\b", re.I)


_PACKAGES: Final = lazy_regex(
    r"(?<![\w-])(?:default-)?(?P<product>mariadb|mysql|postgresql)(?:-\d[\d.]*)?(?P<server>-server)?(?![\w-])", re.I
)
"""Packages of servers, as distributions call them."""


def read(line: Line) -> Iterator[Statement]:
    """The servers of a line as alternatives of one entry, and the variables it names with a value."""
    level = level_of(line)
    if installs_packages(line.text):
        servers = (
            package
            for package in _PACKAGES.finditer(line.text)
            if package["server"] or package["product"] == "postgresql"
        )
        if products := dict.fromkeys(_NAMES[server["product"].lower()] for server in servers):
            yield Statement(("database", level), " | ".join(products), level=level)
        return
    both = _BOTH.search(line.text)
    versions = (
        {_NAMES[name.lower()]: f"{_NAMES[name.lower()]} >= {both[3]}" for name in both.groups()[:2]} if both else {}
    )
    for match in _PRODUCT.finditer(line.text):
        if re.match(r"\s*(?:PHP )?(?:extension|module|driver|support)", line.text[match.end() :], re.I):
            continue
        if re.search(r"(?:php[-_ ]|pdo[-_ ]|extension\s)$", line.text[: match.start()], re.I):
            continue
        product = _NAMES[match[1].lower()]
        version = match[2]
        if version and (least := _LEAST.search(line.text, match.end())):
            version = least[1] or least[2]  # the one that is there is told first
        elif version and _TOO_OLD.match(line.text, match.end()):
            version = None
        versions.setdefault(product, f"{product} >= {version}" if version and version != "3" else product)
    if versions:
        yield Statement(("database", level), " | ".join(versions.values()), level=level)
    yield from _variables(line)
    yield from _character_set(line)


def _character_set(line: Line) -> Iterator[Statement]:
    about = re.search(r"\b(?:database|mysql|mariadb|tables?|collation)\b", line.text, re.I)
    if about and re.search(r"\butf8mb4\b", line.text) and "character_set" not in line.text:
        level = level_of(line)
        yield Statement(("database", "settings", level), "= utf8mb4", "character_set_server", level)


def _variables(line: Line) -> Iterator[Statement]:
    level = level_of(line)
    known = names_of("mariadb") | names_of("postgresql")
    for match in re.finditer(r"(?<![\w.$-])([a-z]+(?:[_-][a-z0-9]+)+)(?![\w(])", line.text):
        name = match[1].replace("-", "_")
        if name not in known:
            continue
        rest = line.text[match.end() :]
        if size := _SIZE.search(rest):
            yield Statement(("database", "settings", level), f">= {size[1]}{(size[2] or '').upper()}", name, level)
        elif re.search(r"\b(?:on|enabled|=\s*1)\b", rest, re.I):
            yield Statement(("database", "settings", level), "on", name, level)
        elif value := re.search(r"(?:=|:|\bto\b|\bbe\b(?! set\b))\s*[\"'`]?([a-z][a-z0-9_]+)", rest):
            yield Statement(("database", "settings", level), f"= {value[1]}", name, level)
