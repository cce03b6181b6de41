"""Calls of functions that were gone with PHP 7.0 and exist in no extension of a later PHP.

Source: php.net, "Migrating from PHP 5.6.x to PHP 7.0.x", removed extensions and SAPIs, and removed functions.
"""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.nodes import called, line, text, walked

_NAMES: Final = (
    r"(?:mysql_(?:p?connect|query|select_db|fetch_\w+|num_rows|real_escape_string|insert_id|affected_rows|error|close|"
    r"result|set_charset)|eregi?(?:_replace)?|spliti?|sql_regcase|mssql_(?:p?connect|query|fetch_\w+)|"
    r"set_magic_quotes_runtime|magic_quotes_runtime|call_user_method(?:_array)?)"
)
SPEAKING: Final = re.compile((rb"(?<![\w>:$'.])" + _NAMES.encode() + rb"\s*\("), re.I)
_NAME: Final = re.compile(_NAMES, re.I)
_ASKED: Final = re.compile(
    rb"(?:function_exists|is_callable|extension_loaded)\s*\(\s*['\"](?:mysql|mssql|ereg|split|\w*magic)", re.I
)

_BESIDE: Final = re.compile(rb"\b(?:mysqli(?:_\w+\s*\(|\b)|PDO\b|pg_connect)", re.I)


def calls(root: Node, data: bytes) -> Iterator[tuple[int, str]]:
    """Line and name of each such call that nothing asks about, in a file that has no other way either."""
    if not SPEAKING.search(data) or _ASKED.search(data) or _BESIDE.search(data):
        return
    defined = {
        text(node.child_by_field_name("name")).lower() for node in walked(root) if node.type == "function_definition"
    }
    for node in walked(root):
        name = called(node) if node.type == "function_call_expression" else ""
        if name and _NAME.fullmatch(name) and name not in defined:
            yield line(node), name
