"""The branches that an expression decides on, and the variables that are set in them and asked for further down."""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import Patience, around, field, nearest, parent_of, text, unwrapped
from fundamentum.derive.php_source.scalars import Value
from fundamentum.derive.statements.loops import Loop, loop_of, member
from fundamentum.derive.statements.truth import literal


def branches(condition: Node) -> tuple[Node | None, Node | None]:
    """What is done where a condition holds, and where it does not: of an ``if``, of ``or die``, of ``? :``."""
    at: Node = condition
    while at.parent is not None and at.parent.type == "parenthesized_expression":
        Patience.tick()
        at = at.parent
    above = at.parent
    if above is None:
        return None, None
    if above.type in ("if_statement", "else_if_clause") and field(above, "condition") == at:
        return field(above, "body"), field(above, "alternative")
    if above.type == "case_statement" and field(above, "value") == at:
        switch = parent_of(above, 2)
        asked = unwrapped(field(switch, "condition")) if switch is not None else None
        return (None, above) if text(asked).lower() == "false" else (above, None)  # of a switch (true)
    if above.type in ("default_statement", "match_default_expression"):
        return above, None
    if above.type == "match_condition_list":
        return _of_match(above)
    if above.type == "conditional_expression":
        return field(above, "body"), field(above, "alternative")
    if above.type == "binary_expression" and field(above, "left") == at:
        operator = text(field(above, "operator")).lower()
        if above.parent is not None and above.parent.type == "expression_statement":
            if operator in ("or", "||"):
                return None, field(above, "right")
            if operator in ("and", "&&"):
                return field(above, "right"), None
    return None, None


def _of_match(conditions: Node) -> tuple[Node | None, Node | None]:
    """The arm, which is taken where the condition holds; of ``match (false)``, where not."""
    arm = conditions.parent
    whole = parent_of(arm, 2)
    asked = unwrapped(whole.named_children[0]) if whole is not None else None
    done = arm.named_children[-1] if arm is not None else None
    return (None, done) if text(asked).lower() == "false" else (done, None)


MAX_BEHIND: Final = 6
"""Statements that are looked at behind one that leaves: ``if (extension_loaded('gd')) continue;``"""


def behind(condition: Node) -> Iterator[Node]:
    """The plain statements behind the one that a condition is of, up to the next that has branches of its own."""
    statement = condition
    while statement.parent is not None and not statement.type.endswith("_statement"):
        Patience.tick()
        statement = statement.parent
    for _ in range(MAX_BEHIND):
        following = statement.next_named_sibling
        if following is None or following.type not in _PLAIN:
            return
        yield following
        statement = following


_PLAIN: Final = frozenset({"expression_statement", "echo_statement", "exit_statement", "throw_statement", "comment"})


def set_by(node: Node) -> tuple[Node | None, Value]:
    """The variable that an expression sets, and what that is then: true if it is added to."""
    left = field(node, "left")
    if node.type == "update_expression":
        return node.named_children[0], True
    if left is None:
        return None, None
    if node.type == "augmented_assignment_expression":
        return left, True
    if node.type != "assignment_expression":
        return None, None
    if left.type == "subscript_expression":
        return left.named_children[0], True
    right = field(node, "right")
    of_list = right is not None and right.type == "variable_name" and member(right) is not None
    return left, True if of_list else literal(right)  # a member of a list of names is one


def function_of(node: Node) -> Node:
    """The function or method that a place stands in, closures passed over; the whole file, if there is none."""
    while node.parent is not None and node.type not in ("function_definition", "method_declaration"):
        Patience.tick()
        node = node.parent
    return node


def given_before(kept: Node) -> Node | None:
    """What a variable is given last before a place, in the same function, and in the same turn of a loop."""
    scope, root = function_of(kept), root_of(kept)
    before = (root.text or b"")[scope.start_byte : kept.start_byte]
    name = re.escape(text(kept).encode("utf-8", "replace"))
    given = [match.end() for match in re.finditer(name + rb"\s*=(?![=>])\s*", before)]
    where = scope.start_byte + given[-1] if given else 0
    value = root.descendant_for_byte_range(where, where + 1) if given else None
    while value is not None and value.parent is not None and value.parent.type != "assignment_expression":
        Patience.tick()
        value = value.parent
    loop = nearest(kept, *_LOOPS)
    return value if value is None or loop is None or loop.start_byte < value.start_byte else None


def named_behind(kept: Node, scope: Node) -> Iterator[Node]:
    """Where a variable stands again behind a place; up to where it is given something else."""
    root = root_of(scope)
    word = re.compile(re.escape(text(kept).encode("utf-8", "replace")) + rb"(?!\w)")
    for place in around(root, root.text or b"", word, (kept.type,)):
        if kept.end_byte < place.start_byte < scope.end_byte and text(place) == text(kept):
            above = place.parent
            if above is not None and above.type == "assignment_expression" and field(above, "left") == place:
                return
            yield place


def loops_over(kept: Node, block: Node) -> Iterator[Loop]:
    """The loops of a block that go through what is kept under a name, behind the place where it is put there."""
    root = root_of(block)
    named = re.compile(rb"foreach\s*\(\s*%s\b" % re.escape(text(kept).encode("utf-8", "replace")))
    for node in around(root, root.text or b"", named, ("foreach_statement",)):
        loop = loop_of(node) if kept.end_byte <= node.start_byte < block.end_byte else None
        if loop is not None and text(loop.source) == text(kept):
            yield loop


def root_of(node: Node) -> Node:
    while node.parent is not None:
        Patience.tick()
        node = node.parent
    return node


def block_of(node: Node) -> Node:
    """The block that a statement stands in; around a loop, as what is kept in it is asked for behind; or the file."""
    while node.parent is not None and (
        node.type not in ("program", "compound_statement") or node.parent.type in _LOOPS or node.type in _LOOPS
    ):
        Patience.tick()
        node = node.parent
    return node


_LOOPS: Final = frozenset({"foreach_statement", "for_statement", "while_statement"})
