"""Conditions that are kept in a variable first: ``$usable = function_exists('imap_open'); if ($usable) { ... }``"""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import field, nearest
from fundamentum.derive.statements.where_missing import without_signs

MAX_KEPT: Final = 5
"""Variables one behind the other, and conditions within each other, that are followed."""
_BODIES: Final = ("function_definition", "method_declaration", "anonymous_function", "arrow_function", "program")
_CLASSES: Final = ("class_declaration", "trait_declaration", "anonymous_class")
_KEEPING: Final = ("variable_name", "member_access_expression")


def with_kept(data: bytes, condition: Node, positive: bool) -> Iterator[tuple[Node, bool]]:
    """A condition, and those that variables keep which it comes to: each with whether it holds."""
    yield condition, positive
    yield from _kept_by(data, condition, positive, MAX_KEPT)


def _kept_by(data: bytes, condition: Node, positive: bool, turns: int) -> Iterator[tuple[Node, bool]]:
    node, positive = without_signs(condition, positive)
    if node is None or not turns:
        return
    if node.type == "binary_expression":
        operator = field(node, "operator")
        if operator is not None and operator.type in (("&&", "and") if positive else ("||", "or")):
            for side in (field(node, "left"), field(node, "right")):
                if side is not None:
                    yield from _kept_by(data, side, positive, turns - 1)
    elif node.type in _KEEPING and (given := _given_once(data, node)) is not None:
        yield given, positive
        yield from _kept_by(data, given, positive, turns - 1)


def _given_once(data: bytes, variable: Node) -> Node | None:
    """What a variable is given, where that is at one place alone in its function; a property, in its class."""
    of_class = variable.type == "member_access_expression"
    body = nearest(variable, *(_CLASSES if of_class else _BODIES))
    if body is None or (of_class and not (variable.text or b"").startswith(b"$this->")):
        return None
    name = (variable.text or b"")[:60]
    given = re.compile(rb"(?<![\w$])%s\s*+(?:\[[^\]]{0,80}\]\s*+)?[.+|&?]{0,2}=(?![=>])" % re.escape(name))
    places = [match.start() for match in given.finditer(data, body.start_byte, body.end_byte)]
    if len(places) != 1 or (places[0] > variable.start_byte and not of_class):
        return None
    assigned = nearest(body.descendant_for_byte_range(places[0], places[0] + 1), "assignment_expression")
    left = field(assigned, "left")
    return field(assigned, "right") if left is not None and left.type == variable.type else None
