"""Several ways to do one thing: ``if (extension_loaded('imagick')) ... elseif (extension_loaded('gd')) ...``."""

from collections.abc import Sequence
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import Patience, ancestors, children, field, text
from fundamentum.derive.php_source.source import CHECKS

Ways = tuple[Sequence[Node], Node | None]
"""The conditions, and the branch that is left where none of them holds."""
MAX_WAYS: Final = 12
"""Ways to do one thing, each in an ``if`` of its own."""
_LEAVING: Final = frozenset({"return_statement", "exit_statement"})


def ways_around(check: Node) -> Ways:
    """The ways of which a check chooses one; none where it stands in no condition, or in the only one."""
    for parent, child in ancestors(check):
        if parent.type in ("if_statement", "else_if_clause"):
            if field(parent, "condition") != child:
                break
            first = _first(parent)
            conditions, left = _ways(first)
            if left is None and _leave(first):
                conditions, left = _each_leaving(first)
            return (conditions, left) if len(conditions) > 1 else ((), None)
        if parent.type.endswith("_statement"):
            break
    return (), None


def _leave(statement: Node) -> bool:
    """Whether each way of an ``if`` leaves."""
    return all(_leaves(one) for one in (statement, *statement.children_by_field_name("alternative")))


def _each_leaving(statement: Node) -> tuple[list[Node], Node | None]:
    """The conditions of an ``if`` that leaves and of those beside it that ask and leave too; and what follows them."""
    before, behind = statement.prev_named_sibling, statement.next_named_sibling
    conditions = _ways(statement)[0]
    while before is not None and _asks_and_leaves(before) and len(conditions) < MAX_WAYS:
        Patience.tick()
        conditions, before = [*_ways(before)[0], *conditions], before.prev_named_sibling
    while behind is not None and _asks_and_leaves(behind) and len(conditions) < MAX_WAYS:
        Patience.tick()
        conditions, behind = [*conditions, *_ways(behind)[0]], behind.next_named_sibling
    return conditions, behind


def _asks_and_leaves(statement: Node) -> bool:
    asked = text(field(statement, "condition")) if statement.type == "if_statement" else ""
    return any(name in asked for name in CHECKS) and "!" not in asked and _leave(statement)


def _leaves(way: Node) -> bool:
    """Whether a way ends the function around, or the program."""
    body = field(way, "body")
    last = (
        body.named_children[-1] if body is not None and body.type == "compound_statement" and children(body) else body
    )
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
