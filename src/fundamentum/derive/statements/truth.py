"""What an expression comes to where a condition in it holds, and where it does not: ``!$a || $b``, ``$a ? 0 : 1``."""

import re
from collections.abc import Iterator
from typing import Final, NamedTuple

from tree_sitter import Node

from fundamentum.derive.php_source.evaluation import Cases, Given, cases_of
from fundamentum.derive.php_source.nodes import Patience, called, children, field, nearest, text
from fundamentum.derive.php_source.scalars import Value, is_true


class Worth(NamedTuple):
    """What an expression comes to."""

    held: Value
    """Where the condition holds."""
    failed: Value
    """Where it does not."""

    def cases(self) -> Iterator[tuple[bool, bool]]:
        """Whether the condition holds, and whether the expression is true then, as far as that is known."""
        yield from (
            (holds, is_true(value)) for holds, value in ((True, self.held), (False, self.failed)) if value is not None
        )

    def bad(self) -> bool | None:
        """Whether the condition holds where the expression is false, or says so in words; None: neither is known.

        What comes to nothing (null) may be a third answer.
        """
        for holds, value in ((False, self.failed), (True, self.held)):
            if value not in (None, []) and (not is_true(value) or (isinstance(value, str) and _BAD.search(value))):
                return holds
        return None


_BAD: Final = re.compile(r"fail|err|miss|bad|danger|^no\b|not\b|invalid", re.I)
CONDITION: Final = Worth(True, False)
"""What the condition itself comes to."""
_CHECKS: Final = frozenset({"extension_loaded", "function_exists", "class_exists"})
_LEVEL: Final = re.compile(r"\$(?:is_?)?(?:(?P<must>required|mandatory|must|fatal|critical|blocking)|optional)$", re.I)
"""Parameters that tell whether a requirement must be met."""
_FUNCTIONS: Final = frozenset({"function_definition", "method_declaration"})
_ASKING: Final = frozenset({"parenthesized_expression", "unary_op_expression", "binary_expression"})
"""Where the value of an assignment is asked for: ``if ($missing = missing())``"""


def climbed(place: Node, worth: Worth = CONDITION, *, alone: bool = True) -> Iterator[tuple[Node, Worth]]:
    """An expression and those around it, the innermost first, as long as what they come to is known in some case.

    ``alone``: whatever else is asked for is there.
    """
    at = place
    while worth != (None, None):
        Patience.tick()
        yield at, worth
        if (chosen := _of_arm(at)) is not None:
            at, arm, otherwise = chosen
            worth = Worth(*(arm if value is not None and is_true(value) else otherwise for value in worth))
        elif (above := expression_around(at)) is not None:
            at, worth = above, Worth(*cases_of(above, _given(at, worth, alone), len(worth)))
        else:
            return


def _of_arm(condition: Node) -> tuple[Node, Value, Value] | None:
    """``match (true) { CONDITION => 'too old', default => null }``: the whole, the arm's value, and the default one."""
    if condition.parent is None or condition.parent.type != "match_condition_list":
        return None
    whole, arm = nearest(condition, "match_expression"), condition.parent.parent
    otherwise = nearest(condition, "match_block")
    default = otherwise.named_children[-1] if otherwise is not None else None
    if whole is None or arm is None or "true" not in text(whole.named_children[0]).lower():
        return None
    other = default.named_children[-1] if default is not None and default.type == "match_default_expression" else None
    return whole, literal(arm.named_children[-1]), literal(other)


def expression_around(part: Node) -> Node | None:
    """What may come to something by one of its parts; not what keeps that for later."""
    above = part.parent
    while above is not None and above.type in ("argument", "arguments"):
        Patience.tick()
        above = above.parent
    if above is not None and above.type == "assignment_expression":
        asked_at_once = above.parent is not None and above.parent.type in _ASKING
        return above if asked_at_once and field(above, "right") == part else None
    return above


MAX_CLIMBED: Final = 30
"""Expressions within each other that are looked at."""


def known_around(leaf: Node, told: Cases, known: Given) -> Iterator[tuple[Node, Cases]]:
    """An expression and those around it, the innermost first, as long as what they come to is known in each case.

    ``told``: what the innermost comes to; ``known``: what others do that stand beside it.
    """
    at: Node | None = leaf
    for _ in range(MAX_CLIMBED):
        if at is None or not told or None in told:
            return
        yield at, told
        inner, at = at, expression_around(at)
        told = cases_of(at, _first_known(inner, told, known), len(told))


def _first_known(place: Node, told: Cases, known: Given) -> Given:
    return lambda node: told if node == place else known(node)


def _given(place: Node, worth: Worth, alone: bool) -> Given:
    """What an expression comes to, and what a parameter does that is not given."""

    def given(node: Node) -> Cases | None:
        if node == place:
            return worth
        if node.type == "variable_name":
            return (_by_default(node),) * len(worth)
        return (True,) * len(worth) if alone and called(node) in _CHECKS else None

    return given


def _by_default(variable: Node) -> Value:
    """What a variable is that is a parameter of the function around, if it is not given; of a level, that it must."""
    function = nearest(variable, *_FUNCTIONS)
    parameters = field(function, "parameters")
    for one in children(parameters):
        if text(field(one, "name")) == text(variable):
            level = _LEVEL.match(text(variable))
            return level["must"] is not None if level else literal(field(one, "default_value"))
    return None


def literal(node: Node | None) -> Value:
    """What an expression comes to that depends on nothing; None for any other."""
    return cases_of(node, lambda _: None, 1)[0]
