"""From which version on a database will do: as the program's own tables say it, else as documents do."""

import itertools
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Final

from msgspec.structs import replace

from fundamentum.derive.application.tree import Each, SourceFile
from fundamentum.derive.php_source.word_search import matching
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.statements import database_gates
from fundamentum.derive.statements.tables import rows

Versions = Mapping[str, tuple[str, Place]]
"""Product → the lowest version, and where that stands."""
_PRODUCT: Final = rb"(?P<product>mysql|mariadb|postgres(?:ql)?|pgsql|sqlite)"
_PRODUCTS: Final = (b"mysql", b"mariadb", b"postgres", b"pgsql", b"sqlite")
_VERSION: Final = rb"['\"](?P<version>\d{1,2}(?:\.\d{1,3}){1,2})['\"]"
_IS: Final = rb"['\"]?\s*(?:=>|=|,)\s*"
_LEAST: Final = rb"(?:requir\w{0,9}?|min(?:imum)?|lowest)"
_NAMED: Final = (
    (
        re.compile(_LEAST + rb"_?" + _PRODUCT + rb"_?(?:server_?)?version\w{0,20}+" + _IS + _VERSION, re.I),
        (b"requir", b"min", b"lowest"),
    ),
    (
        re.compile(_PRODUCT + rb"_?(?:server_?)?" + _LEAST + rb"_?(?:version)?\w{0,20}+" + _IS + _VERSION, re.I),
        _PRODUCTS,
    ),
)
"""Patterns, and with what they begin: ``'minMysqlVersion' => '5.7'``, ``define('MYSQL_MIN_VERSION', '5.7')``"""
_TABLE: Final = re.compile(
    rb"(?:requir|minim)\w{0,40}+['\"]?\s*(?:=>|=|,)\s*(?:\[|array\s*\()(?P<body>[^;]{0,1200})", re.I
)
_ROW: Final = re.compile(rb"['\"]" + _PRODUCT + rb"['\"]\s*=>\s*" + _VERSION, re.I)
"""``const REQUIRED = ['php' => '8.1', 'mysql' => '5.7.8'];``"""
_LOWER: Final = re.compile(r"(\w+)\s*>=\s*([\d.]+)")
_SAME: Final = {"postgres": "postgresql", "pgsql": "postgresql"}


def versions_stated(each: Each, files: Sequence[SourceFile], said: Iterable[Entry]) -> Versions:
    """What the program says in its own files, and for products of which it says nothing what documents do."""
    versions: dict[str, tuple[str, Place]] = {}
    for entry in said:
        if entry.kind == "database":
            for product, version in _LOWER.findall(entry.value):
                versions.setdefault(product, (version, entry.places[0]))
    own = [file for file in files if file.part == "own"]
    told: dict[str, tuple[str, Place]] = {}
    for file, stated in each(_versions_in, own, None):
        for product, version, line in stated:
            known = told.get(product)
            if known is None or _number(version) > _number(known[0]):
                told[product] = version, Place(file.path, line, f"{product} {version}", "the program states it")
    return versions | told


def _versions_in(data: bytes, _: object) -> list[tuple[str, str, int]]:
    """Product, version and line, for each version of a database that one file asks for."""
    lowered = data.lower()
    versions = database_gates.gates(data) if database_gates.speaks(data) else []
    named = any(word in lowered for word in (b"requir", b"minim", b"_min", b"lowest"))
    if named and any(word in lowered for word in _PRODUCTS):
        versions += _rows(data)
    return versions


def _rows(data: bytes) -> Iterator[tuple[str, str, int]]:
    lowered = data.lower()
    matches = (match for pattern, words in _NAMED for match in matching(pattern, words, lowered, data))
    named = ((match, data.count(b"\n", 0, match.start()) + 1) for match in matches)
    in_tables = ((match, at) for _, match, at in rows(matching(_TABLE, (b"requir", b"minim"), lowered, data), _ROW))
    for match, at in itertools.chain(named, in_tables):
        product = match["product"].decode().lower()
        yield _SAME.get(product, product), match["version"].decode(), at


def _number(version: str) -> tuple[int, ...]:
    return tuple(map(int, version.split(".")))


def with_versions(needs: Iterable[Entry], versions: Versions) -> Iterator[Entry]:
    """The needs; databases with the versions from which on they will do."""
    for entry in needs:
        known = [name for name in entry.names if name in versions] if entry.kind == "database" else []
        if not known:
            yield entry
            continue
        value = " | ".join(f"{name} >= {versions[name][0]}" if name in versions else name for name in entry.names)
        places = dict.fromkeys((*(versions[name][1] for name in known), *entry.places))
        yield replace(entry, value=value, places=tuple(places))
