"""Several ways to do one thing: ``if (extension_loaded('imagick')) ... elseif (extension_loaded('gd')) ...``."""

from collections.abc import Sequence
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import Patience, ancestors, field

Ways = tuple[Sequence[Node], Node | None]
"""The conditions, and the branch that is left where none of them holds."""
_LEAVING: Final = frozenset({"return_statement", "exit_statement"})


def ways_around(check: Node) -> Ways:
    """The ways of which a check chooses one; none where it stands in no condition, or in the only one."""
    for parent, child in ancestors(check):
        if parent.type in ("if_statement", "else_if_clause"):
            if field(parent, "condition") != child:
                break
            first = _first(parent)
            conditions, left = _ways(first)
            if left is None and all(_leaves(one) for one in (first, *first.children_by_field_name("alternative"))):
                left = first.next_named_sibling  # each of them leaves: what follows is where none holds
            return (conditions, left) if len(conditions) > 1 else ((), None)
        if parent.type.endswith("_statement"):
            break
    return (), None


def _leaves(way: Node) -> bool:
    """Whether a way ends the function around, or the program."""
    body = field(way, "body")
    last = body.named_children[-1] if body is not None and body.named_children else None
    return last is not None and last.type in _LEAVING


def _first(statement: Node) -> Node:
    """The ``if`` with which the ways begin."""
    above = statement.parent
    while above is not None and (statement.type == "else_if_clause" or above.type == "else_clause"):
        Patience.tick()
        statement, above = above, above.parent
        if statement.type == "else_clause" and above is not None:
            statement, above = above, above.parent
    return statement


def _ways(statement: Node) -> tuple[list[Node], Node | None]:
    conditions = [condition] if (condition := field(statement, "condition")) is not None else []
    left = None
    for clause in statement.children_by_field_name("alternative"):
        Patience.tick()
        body = field(clause, "body")
        if clause.type == "else_if_clause":
            conditions += [further] if (further := field(clause, "condition")) is not None else []
        elif body is not None and body.type == "if_statement":
            further_ways, left = _ways(body)
            conditions += further_ways
        else:
            left = clause
    return conditions, left
