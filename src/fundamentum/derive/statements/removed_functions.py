"""Calls of functions that were gone with PHP 7.0 and exist in no extension of a later PHP.

Source: php.net, "Migrating from PHP 5.6.x to PHP 7.0.x", removed extensions and SAPIs, and removed functions.
"""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import around, called, line

_NAMES: Final = (
    r"(?:mysql_(?:p?connect|query|select_db|fetch_\w+|num_rows|real_escape_string|insert_id|affected_rows|error|close|"
    r"result|set_charset)|eregi?(?:_replace)?|spliti?|sql_regcase|mssql_(?:p?connect|query|fetch_\w+)|"
    r"set_magic_quotes_runtime|magic_quotes_runtime|call_user_method(?:_array)?)"
)
SPEAKING: Final = re.compile(rb"(?<![\w>:$'.])" + _NAMES.encode() + rb"\s*\(")
_BEGINNINGS: Final = (b"mysql_", b"mssql_", b"ereg", b"split", b"sql_regcase", b"set_magic_quotes", b"call_user_method")
_NAME: Final = re.compile(_NAMES, re.I)
_ASKED: Final = re.compile(
    rb"(?:function_exists|is_callable|extension_loaded)\s*\(\s*['\"](?:mysql|mssql|ereg|split|\w*magic)", re.I
)

_DEFINED: Final = re.compile(rb"\bfunction\s++&?\s*+(\w++)\s*+\(", re.I)
_BESIDE: Final = re.compile(rb"\b(?:mysqli(?:_\w+\s*\(|\b)|PDO\b|pg_connect)", re.I)


def speaks(data: bytes) -> bool:
    """Whether a file may call one: the beginnings of their names are looked for first, which takes next to no time."""
    for word in _BEGINNINGS:
        at = data.find(word)
        while at >= 0:
            if SPEAKING.match(data, at):
                return True
            at = data.find(word, at + 1)
    return False


def calls(root: Node, data: bytes) -> Iterator[tuple[int, str]]:
    """Line and name of each such call that nothing asks about, in a file that has no other way either."""
    if not speaks(data) or _ASKED.search(data) or _BESIDE.search(data):
        return
    defined = {match[1].decode().lower() for match in _DEFINED.finditer(data)}
    for node in around(root, data, SPEAKING, ("function_call_expression",)):
        name = called(node)
        if _NAME.fullmatch(name) and name not in defined:
            yield line(node), name
