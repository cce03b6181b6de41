"""Conditions that are kept in a variable first: ``$usable = function_exists('imap_open'); if ($usable) { ... }``"""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import field, nearest
from fundamentum.derive.statements.where_missing import without_signs

MAX_KEPT: Final = 3
"""Variables one behind the other that are followed."""
_BODIES: Final = ("function_definition", "method_declaration", "anonymous_function", "arrow_function", "program")


def with_kept(data: bytes, condition: Node, positive: bool) -> Iterator[tuple[Node, bool]]:
    """A condition, and that which a variable keeps which it comes to: each with whether it holds."""
    node: Node | None = condition
    for _ in range(MAX_KEPT):
        if node is None:
            return
        yield node, positive
        node, positive = without_signs(node, positive)
        node = _given_once(data, node) if node is not None and node.type == "variable_name" else None


def _given_once(data: bytes, variable: Node) -> Node | None:
    """What a variable is given, where it is given something at one place alone in its function."""
    body = nearest(variable, *_BODIES)
    if body is None:
        return None
    name = (variable.text or b"")[:60]
    given = re.compile(rb"(?<![\w$])%s\s*+(?:\[[^\]]{0,80}\]\s*+)?[.+|&?]{0,2}=(?![=>])" % re.escape(name))
    places = [match.start() for match in given.finditer(data, body.start_byte, body.end_byte)]
    if len(places) != 1 or places[0] > variable.start_byte:
        return None
    assigned = nearest(body.descendant_for_byte_range(places[0], places[0] + 1), "assignment_expression")
    left = field(assigned, "left")
    return field(assigned, "right") if left is not None and left.type == "variable_name" else None
