"""Where a program asks a database server for its version, and refuses one that is older than it needs.

``if (version_compare($db->server_info, '5.7.8', '<')) { exit('MySQL 5.7.8 is needed'); }``
"""

import re
from collections.abc import Iterator
from typing import Final, NamedTuple

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import (
    Patience,
    ancestors,
    arguments,
    around,
    called,
    field,
    function_around,
    line,
    string,
    text,
    unwrapped,
    walked,
)
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.statements.outcomes import refuses
from fundamentum.derive.statements.where_missing import turned, where_missing

_ASKS: Final = re.compile(
    rb"\b(?:get_)?server_(?:info|version)\b|\b(?:mysqli?|pg)_(?:get_server_(?:info|version)|version)\b|\bATTR_SERVER_VERSION\b|"
    rb"\bgetServerVersion\b|\bselect\s{1,9}(?:@@)?version\b|\bsqlite_version\b|"
    rb"(?:database|db|mysql|mariadb|postgres|sql)_?version\s{0,9}\(",
    re.I,
)
"""What asks the server; the last may be a function of the program's own, and be about its own tables."""
_COMPARES: Final = (b"version_compare", b"server_version")
_PRODUCT: Final = re.compile(
    r"(?P<mariadb>maria)|(?P<mysql>mysql)|(?P<postgresql>postgres|pgsql|\bpg_)|(?P<sqlite>sqlite)", re.I
)
_VERSION: Final = re.compile(r"\d{1,2}(?:\.\d{1,3}){1,2}")
_TOO_OLD: Final = frozenset({"<", "lt"})
_WILL_DO: Final = frozenset({">=", "ge"})
_TURNED: Final = {">": "<", "gt": "<", "<=": ">=", "le": ">="}
"""The same with the sides changed."""
MAX_COMPARED: Final = 50


Gate = tuple[str, str, int]
"""A product, the version from which on a server of it will do, and the line."""


class _Compared(NamedTuple):
    """A comparison with what may be the version of a server."""

    node: Node
    """The whole condition, true or false."""
    asked: Node
    sign: str
    least: Node


def speaks(data: bytes) -> bool:
    """Whether a file may hold the version of a database server against another."""
    lowered = data.lower()
    return any(word in lowered for word in _COMPARES) and _ASKS.search(data) is not None


def gates(data: bytes) -> list[Gate]:
    """The versions that one file asks for."""
    Patience.begin()
    try:
        return list(_gates(Source(data), data))
    except RecursionError:
        return []


def _gates(source: Source, data: bytes) -> Iterator[Gate]:
    kept = {
        (function_around(node), text(field(node, "left")))
        for node in around(source.root, data, _ASKS, ("assignment_expression",))
    }
    for comparison in list(_compared(source.root))[:MAX_COMPARED]:
        asks = _ASKS.search(comparison.asked.text or b"")
        names = {
            text(part)
            for part in walked(comparison.asked)
            if part.type in ("variable_name", "member_access_expression")
        }
        if not asks and not any((function_around(comparison.node), name) in kept for name in names):
            continue
        too_old = comparison.sign in _TOO_OLD
        branch = where_missing(comparison.node, turned(comparison.node) is not too_old)
        if branch is not None and refuses(branch):
            for product, version in _least(comparison, branch, data):
                yield product, version, line(comparison.node)


def _compared(root: Node) -> Iterator[_Compared]:
    for node in walked(root):
        if node.type == "function_call_expression" and called(node) == "version_compare":
            given = arguments(node)
            sign = (string(given[2]) or "") if len(given) == 3 else ""
            if sign in _TOO_OLD | _WILL_DO:
                yield _Compared(node, given[0], sign, given[1])
            if sign in _TURNED:
                yield _Compared(node, given[1], _TURNED[sign], given[0])
            above = node.parent
            if len(given) == 2 and above is not None and text(field(above, "right")) == "0":
                sign = text(field(above, "operator"))
                if sign in _TOO_OLD | _WILL_DO:
                    yield _Compared(above, given[0], sign, given[1])
        elif node.type == "binary_expression":
            left, right, sign = field(node, "left"), field(node, "right"), text(field(node, "operator"))
            if left is not None and right is not None and sign in _TOO_OLD | _WILL_DO and _numbered(right):
                yield _Compared(node, left, sign, right)
            if left is not None and right is not None and sign in _TURNED and _numbered(left):
                yield _Compared(node, right, _TURNED[sign], left)


def _least(comparison: _Compared, branch: Node, data: bytes) -> Iterator[tuple[str, str]]:
    """Product and version; of two products where the version hangs on which of them it is."""
    least = unwrapped(comparison.least)
    if least is not None and least.type == "conditional_expression":
        maria = "maria" in text(field(least, "condition")).lower()
        if maria and not text(field(least, "condition")).startswith("!"):
            for product, name in (("mariadb", "body"), ("mysql", "alternative")):
                if version := _written(field(least, name), data):
                    yield product, version
        return
    version = _written(least, data)
    if version and (product := _product(comparison, branch, version)):
        yield product, version


def _product(comparison: _Compared, branch: Node, version: str) -> str:
    """The product that is asked: as the conditions around say, what is told, or how it is asked."""
    for above, child in ancestors(comparison.node):
        condition = text(field(above, "condition")).lower() if above.type in ("if_statement", "else_if_clause") else ""
        if "maria" in condition and field(above, "condition") != child:
            other = child in above.children_by_field_name("alternative") or condition.startswith("(!")
            return "mysql" if other else "mariadb"
        if above.type == "binary_expression" and field(above, "right") == child:
            left = text(field(above, "left")).lower()
            if "maria" in left and text(field(above, "operator")) in ("&&", "and"):
                return "mysql" if left.startswith("!") or "=== false" in left else "mariadb"
    newer = int(version.split(".", maxsplit=1)[0]) >= 10  # MySQL has not come so far
    for said in (text(branch)[:2000], text(comparison.asked), text(comparison.least)):
        named = {match.lastgroup or "" for match in _PRODUCT.finditer(said)}
        if "mysql" in named:
            return "mariadb" if newer else "mysql"
        if named:
            return min(named)
    asks_mysql = comparison.least.type == "integer" or "server_info" in text(comparison.asked)
    return ("mariadb" if newer else "mysql") if asks_mysql else ""


def _numbered(node: Node) -> str:
    """A version that is written as a number, as MySQL has it: ``50708``"""
    number = int(text(node)) if node.type == "integer" and re.fullmatch(r"\d{5,6}", text(node)) else 0
    return f"{number // 10000}.{number // 100 % 100}.{number % 100}" if 30000 <= number < 130000 else ""


def _written(least: Node | None, data: bytes) -> str:
    """A version as it is written, or given to the name that stands there, in the same file."""
    if least is None:
        return ""
    if least.type == "integer":
        return _numbered(least)
    if said := string(least):
        return said if _VERSION.fullmatch(said) else ""
    name = re.search(r"\w{1,80}\W{0,3}\Z", text(least)[-90:])
    if name is None:
        return ""
    word = re.escape(name[0].strip("'\"[]) ").encode("utf-8", "replace"))
    given = re.search(rb"\b" + word + rb"['\"]?\]?\s{0,9}(?:=>?|,)\s{0,9}['\"](\d{1,2}(?:\.\d{1,3}){1,2})['\"]", data)
    return given[1].decode() if given else ""
