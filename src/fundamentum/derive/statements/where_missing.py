"""The branch that a program takes where a check finds something missing, and which way round a check asks."""

from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import ancestors, field, text

_PASSING: Final = frozenset({"parenthesized_expression", "error_suppression_expression"})
_EQUAL: Final = {"==": True, "===": True, "!=": False, "!==": False, "<>": False}
_JOINING: Final = frozenset({"&&", "and", "||", "or"})


def turned(check: Node) -> bool:
    """Whether the condition around a check is true where what it asks for is missing: ``!extension_loaded('gd')``"""
    missing = False
    for above, child in ancestors(check):
        if above.type == "unary_op_expression" and text(above).startswith("!"):
            missing = not missing
        elif above.type == "binary_expression":
            sign = text(field(above, "operator")).lower()
            other = text(field(above, "right" if field(above, "left") == child else "left")).lower()
            if sign in _EQUAL and other in ("false", "0", "''"):
                missing = missing is not _EQUAL[sign]
            elif sign not in _JOINING and not (sign in _EQUAL and other == "true"):
                break
        elif above.type not in _PASSING:
            break
    return missing


def where_missing(check: Node, negative: bool) -> Node | None:
    """What is done where it is missing: of an ``if``, of ``or die``.  ``negative``: the check asks for absence."""
    for above, child in ancestors(check):
        if above.type in ("if_statement", "else_if_clause"):
            if child != field(above, "condition"):
                return None
            return field(above, "body") if negative else next(iter(above.children_by_field_name("alternative")), None)
        if above.type == "binary_expression" and field(above, "left") == child:
            alone = above.parent is not None and above.parent.type == "expression_statement"
            signs = ("&&", "and") if negative else ("||", "or")
            if alone and text(field(above, "operator")).lower() in signs:
                return field(above, "right")
        if above.type.endswith("_statement") or above.type == "compound_statement":
            return None
    return None
