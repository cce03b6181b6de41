"""What an expression of PHP comes to, in each of several cases, as far as that can be told without running it.

A case is one state of what a program asks about: a version of PHP, or whether a condition holds.  Somebody says what
some nodes come to in each case (``Given``); from that follows what the expressions around them come to.
"""

import math
import operator
import re
from collections.abc import Callable, Sequence
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.functions import FUNCTIONS, KEEPING
from fundamentum.derive.php_source.nodes import Patience, arguments, called, children, field, string, text
from fundamentum.derive.php_source.scalars import (
    Value,
    as_number,
    as_text,
    is_true,
    limited,
    loosely_equal,
    ordered,
    orders,
)

Cases = tuple[Value, ...]
"""What an expression comes to, case by case."""
Given = Callable[[Node], Cases | None]
"""What some nodes come to; None for any other."""
MAX_DEPTH: Final = 30
"""Expressions within each other that are looked into."""
MAX_MEMBERS: Final = 60
_KEEPING: Final = frozenset({"parenthesized_expression", "argument", "error_suppression_expression"})
_ARITHMETIC: Final[dict[str, Callable[[int | float, int | float], int | float]]] = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
    "/": operator.truediv,
    "%": lambda first, second: int(math.fmod(first, second)),
}
_ORDER: Final[dict[str, Callable[[int], bool]]] = {
    "<": lambda order: order < 0,
    "<=": lambda order: order <= 0,
    ">": lambda order: order > 0,
    ">=": lambda order: order >= 0,
}
_EQUAL: Final = {"==": True, "===": True, "!=": False, "!==": False, "<>": False}
_DECIDING: Final = {"&&": False, "and": False, "||": True, "or": True}
_BITWISE: Final = {"&": False, "|": True}
"""The same, of truth values alone."""
_TURNED: Final = re.compile(r"[!-]")
_CASTS: Final[dict[str, Callable[[Value], Value]]] = {
    "bool": is_true,
    "boolean": is_true,
    "int": lambda value: int(as_number(value)),
    "integer": lambda value: int(as_number(value)),
    "float": lambda value: float(as_number(value)),
    "double": lambda value: float(as_number(value)),
    "string": as_text,
}


def cases_of(node: Node | None, given: Given, number: int, depth: int = 0) -> Cases:
    """What an expression comes to in each of a number of cases."""
    unknown: Cases = (None,) * number
    if node is None or depth > MAX_DEPTH:
        return unknown
    Patience.tick()
    known = given(node)
    if known is not None:
        return known

    def part(field: str | int) -> Cases:
        child = node.child_by_field_name(field) if isinstance(field, str) else node.named_children[field]
        return cases_of(child, given, number, depth + 1)

    kind = node.type
    if kind in _KEEPING and node.named_child_count == 1:
        return part(0)
    if kind == "binary_expression":
        return _joined(text(field(node, "operator")).lower(), part("left"), part("right"))
    if kind == "conditional_expression":
        then = part("body") if field(node, "body") is not None else part("condition")
        return _chosen(part("condition"), then, part("alternative"))
    if kind == "assignment_expression":
        return part("right")
    if kind == "subscript_expression" and node.named_child_count == 2:
        return _each(_member, part(0), part(1))
    if kind == "cast_expression":
        cast = _CASTS.get(text(field(node, "type")).lower())
        return _each(cast, part("value")) if cast is not None else unknown
    if kind == "unary_op_expression" and (sign := _TURNED.match(text(node))):
        return _each(_denied if sign[0] == "!" else _negative, part(0))
    if kind == "encapsed_string" and string(node) is None:
        return _each(lambda *parts: limited("".join(map(as_text, parts))), *map(part, range(node.named_child_count)))
    if kind == "array_creation_expression":
        return _listed(node, given, number, depth)
    if kind == "function_call_expression" and (function := FUNCTIONS.get(called(node))) is not None:
        told = arguments(node)[: 1 if called(node) in KEEPING else None]
        return (
            _each(function, *(cases_of(argument, given, number, depth + 1) for argument in told)) if told else unknown
        )
    return (_plain(node),) * number


def _each(function: Callable[..., Value], *parts: Cases) -> Cases:
    """A function of the values in each case; unknown where one of them is, or where PHP would not take them."""
    return tuple(_tried(function, values) for values in zip(*parts, strict=True))


def _tried(function: Callable[..., Value], values: Sequence[Value]) -> Value:
    if any(value is None for value in values):
        return None
    try:
        return function(*values)
    except (ArithmeticError, LookupError, TypeError, ValueError, re.error):
        return None


def _plain(node: Node) -> Value:
    """What a value that is written out stands for."""
    if node.type in ("string", "encapsed_string", "string_content"):
        return text(node) if node.type == "string_content" else string(node)
    written = text(node).replace("_", "") if node.child_count == 0 or node.type == "boolean" else ""
    if node.type == "integer":
        return int(written) if written.isdigit() and len(written) < 10 else None
    if node.type == "float":
        return float(written) if re.fullmatch(r"\d{1,9}\.\d{1,9}", written) else None
    # Nothing is what an empty list is: untrue, and equal to no text.
    plain: dict[str, Value] = {"true": True, "false": False, "null": []}
    return plain.get(written.lower())


def _listed(array: Node, given: Given, number: int, depth: int) -> Cases:
    """The members of a list; unknown if it has keys, or very many."""
    members = children(array)
    if len(members) > MAX_MEMBERS or any(member.named_child_count != 1 for member in members):
        return (None,) * number
    told = [cases_of(member.named_children[0], given, number, depth + 1) for member in members]
    return _each(lambda *values: list(values), *told) if told else ([],) * number


def _joined(sign: str, left: Cases, right: Cases) -> Cases:
    """Two expressions with an operator between them."""
    if sign in _DECIDING:
        return tuple(_either(_DECIDING[sign], *pair) for pair in zip(left, right, strict=True))
    if sign in _BITWISE:
        pairs = zip(left, right, strict=True)
        return tuple(_either(_BITWISE[sign], *pair) if _truths(pair) else None for pair in pairs)
    if sign == "xor":
        return _each(lambda first, second: is_true(first) is not is_true(second), left, right)
    if sign in _EQUAL:
        strict = len(sign) == 3
        return _each(lambda first, second: loosely_equal(first, second, strict=strict) is _EQUAL[sign], left, right)
    if sign in _ORDER:
        return _each(lambda first, second: _agreed(_ORDER[sign], orders(first, second)), left, right)
    if sign == "<=>":
        return _each(ordered, left, right)
    if sign == ".":
        return _each(lambda first, second: limited(as_text(first) + as_text(second)), left, right)
    if (reckoned := _ARITHMETIC.get(sign)) is not None:
        return _each(lambda first, second: limited(reckoned(as_number(first), as_number(second))), left, right)
    return (None,) * len(left)


def _truths(values: Sequence[Value]) -> bool:
    return all(value is None or isinstance(value, bool) for value in values)


def _agreed(question: Callable[[int], bool], known: Sequence[int]) -> Value:
    """The answer, where it is the same for each order."""
    answers = set(map(question, known))
    return answers.pop() if len(answers) == 1 else None


def _either(deciding: bool, *pair: Value) -> Value:
    """Of "a or b" each alone makes the whole true, of "a and b" false."""
    known = [is_true(value) for value in pair if value is not None]
    if deciding in known:
        return deciding
    return not deciding if len(known) == 2 else None


def _chosen(condition: Cases, then: Cases, otherwise: Cases) -> Cases:
    triples = zip(condition, then, otherwise, strict=True)
    return tuple(None if asked is None else then_told if is_true(asked) else last for asked, then_told, last in triples)


def _denied(value: Value) -> Value:
    return not is_true(value)


def _negative(value: Value) -> Value:
    return -as_number(value)


def _member(whole: Value, key: Value) -> Value:
    if not isinstance(whole, (list, str)) or not isinstance(key, int):
        return None
    return whole[key] if key >= 0 or isinstance(whole, str) else None
