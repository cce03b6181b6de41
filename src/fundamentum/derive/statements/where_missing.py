"""The branch that a program takes where a check finds something missing, and which way round a check asks."""

from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import ancestors, field, text, unwrapped

_PASSING: Final = frozenset({"parenthesized_expression", "error_suppression_expression", "cast_expression"})
_EQUAL: Final = {"==": True, "===": True, "!=": False, "!==": False, "<>": False}
MAX_BETWEEN: Final = 6
"""Statements behind one that keeps an answer among which that is looked for that asks for it."""
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
        if above.type == "assignment_expression" and field(above, "right") == child:
            return _where_kept(above, negative)
        if above.type.endswith("_statement") or above.type == "compound_statement":
            return None
    return None


def _where_kept(assigned: Node, negative: bool) -> Node | None:
    """The same of a condition that is kept in a variable first: ``$usable = ...; if (!$usable) { ... }``"""
    name, statement = field(assigned, "left"), assigned.parent
    if name is None or name.type != "variable_name" or statement is None or statement.type != "expression_statement":
        return None
    for _ in range(MAX_BETWEEN):
        statement = statement.next_named_sibling
        if statement is None:
            return None
        if statement.type == "if_statement":
            asked, holds = without_signs(field(statement, "condition"), negative)
            if text(asked) == text(name):
                return field(statement, "body" if holds else "alternative")
    return None


def without_signs(condition: Node | None, holds: bool) -> tuple[Node | None, bool]:
    """What stands within the brackets and negations of a condition, and whether it holds where the condition does."""
    condition = unwrapped(condition)
    while condition is not None and condition.type == "unary_op_expression" and text(condition).startswith("!"):
        condition, holds = unwrapped(condition.named_children[-1]), not holds
    return condition, holds
