"""What an expression comes to where a condition in it holds, and where it does not: ``!$a || $b``, ``$a ? 0 : 1``."""

import re
from collections.abc import Iterator
from typing import Final, NamedTuple

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import Patience, ancestors, called, string, text, unwrapped

Value = bool | int | str | None
"""What an expression comes to; None: that depends on more than the condition."""


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
        """Whether the condition holds where the expression is false, or says so in words; None: neither is known."""
        for holds, value in ((False, self.failed), (True, self.held)):
            if value is not None and (not is_true(value) or (isinstance(value, str) and _BAD.search(value))):
                return holds
        return None


_BAD: Final = re.compile(r"fail|err|miss|bad|danger|^no\b|not\b|invalid", re.I)
CONDITION: Final = Worth(True, False)
"""What the condition itself comes to."""
_KEEPING: Final = frozenset({"parenthesized_expression", "cast_expression"})
_FUNCTIONS: Final = frozenset({"function_definition", "method_declaration"})
_OF_VALUES: Final = frozenset({"boolval", "intval", "count", "sizeof", "array_filter", "array_values"})
"""Functions of which the result is true where what they are given is."""
_ASKING: Final = frozenset({"parenthesized_expression", "unary_op_expression", "binary_expression"})
"""Where the value of an assignment is asked for: ``if ($missing = missing())``"""
_COMPARING: Final = frozenset({"==", "===", "!=", "!==", "<>", "<", "<=", ">", ">="})
_TURNED: Final = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}


def is_true(value: Value) -> bool:
    """Whether PHP takes a value for true."""
    return value not in (None, False, 0, "", "0")


def climbed(place: Node, worth: Worth = CONDITION) -> Iterator[tuple[Node, Worth]]:
    """An expression and those around it, the innermost first, as long as what they come to is known in some case."""
    at = place
    while worth != (None, None):
        Patience.tick()
        yield at, worth
        above = at.parent
        while above is not None and above.type in ("argument", "arguments"):
            Patience.tick()
            above = above.parent
        further = _around(above, at, worth) if above is not None else None
        if above is None or further is None:
            return
        at, worth = above, further


def _around(above: Node, part: Node, worth: Worth) -> Worth | None:
    """What an expression comes to by one of its parts; None where it is not known to follow from that."""
    if above.type in _KEEPING or called(above) in _OF_VALUES:
        return worth
    if (above.type == "unary_op_expression" and text(above).startswith("!")) or called(above) == "empty":
        return Worth(*(None if value is None else not is_true(value) for value in worth))
    if called(above) == "isset":
        return Worth(*(None if value is None else True for value in worth))
    if above.type == "assignment_expression" and above.child_by_field_name("right") == part:
        return worth if above.parent is not None and above.parent.type in _ASKING else None
    if above.type == "binary_expression":
        return _joined(above, part, worth)
    if above.type == "conditional_expression" and above.child_by_field_name("condition") == part:
        chosen = (literal(above.child_by_field_name(field)) for field in ("alternative", "body"))
        otherwise, then = chosen
        return Worth(*(None if value is None else then if is_true(value) else otherwise for value in worth))
    return None


def _joined(above: Node, part: Node, worth: Worth) -> Worth | None:
    """Of "a or b" each alone makes the whole true, of "a and b" false; of a comparison the other side tells."""
    operator = text(above.child_by_field_name("operator")).lower()
    left, right = above.child_by_field_name("left"), above.child_by_field_name("right")
    if operator in ("&&", "and", "||", "or"):
        if above.parent is not None and above.parent.type == "expression_statement":
            return None  # it stands for itself: ``... or die('...')``
        deciding = operator in ("||", "or")
        usual = _by_default(right if left == part else left)
        return Worth(*(None if value is None else deciding if is_true(value) is deciding else usual for value in worth))
    other = literal(right if left == part else left)
    if operator not in _COMPARING or other is None:
        return None
    if left != part:
        operator = _TURNED.get(operator, operator)
    return Worth(*(None if value is None else _compared(value, operator, other) for value in worth))


def _by_default(node: Node | None) -> bool | None:
    """What a parameter of the function around is if it is not given; None for anything else."""
    plain, turned = unwrapped(node), False
    while plain is not None and plain.type == "unary_op_expression" and text(plain).startswith("!"):
        Patience.tick()
        plain, turned = unwrapped(plain.named_children[-1]), not turned
    if plain is None or plain.type != "variable_name":
        return None
    function = next((above for above, _ in ancestors(plain) if above.type in _FUNCTIONS), None)
    parameters = function.child_by_field_name("parameters") if function is not None else None
    for one in parameters.named_children if parameters is not None else ():
        if text(one.child_by_field_name("name")) == text(plain):
            value = literal(one.child_by_field_name("default_value"))
            return None if value is None else is_true(value) is not turned
    return None


def _compared(value: Value, operator: str, other: Value) -> bool | None:
    """What a comparison comes to; None where PHP would compare values of different kinds."""
    if isinstance(value, bool) or isinstance(other, bool):
        value, other = is_true(value), is_true(other)
    elif type(value) is not type(other):
        return None
    if operator in ("==", "==="):
        return value == other
    if operator in ("!=", "!==", "<>"):
        return value != other
    if isinstance(value, str) or isinstance(other, str) or value is None or other is None:
        return None
    return {"<": value < other, "<=": value <= other, ">": value > other, ">=": value >= other}[operator]


def literal(node: Node | None) -> Value:
    """What a plain value in the source is; None for anything else."""
    plain = unwrapped(node)
    if plain is None:
        return None
    written = text(plain)
    if written.lower() in ("true", "false"):
        return written.lower() == "true"
    if plain.type == "integer":
        return int(written) if written.isdigit() and len(written) < 10 else None
    if plain.type == "array_creation_expression" and not plain.named_children:
        return False
    return string(plain) if plain.type in ("string", "encapsed_string") else None
