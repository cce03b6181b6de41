"""Places where a program itself holds PHP's version against one, and stops or reports an error.

``if (version_compare(PHP_VERSION, '8.1.0', '<')) exit(...)`` says that it needs PHP 8.1.
"""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.consequences import consequences
from fundamentum.derive.facts import Gate, Name, Operator
from fundamentum.derive.nodes import Patience, arguments, around, called, line, string, text, unwrapped

SPEAKING: Final = re.compile(rb"PHP_VERSION|phpversion|PHP_MAJOR_VERSION")
_OPERATORS: Final[dict[str, Operator]] = {
    "<": "<", "lt": "<", "<=": "<=", "le": "<=", ">": ">", "gt": ">", ">=": ">=", "ge": ">=",
    "==": "==", "eq": "==", "=": "==", "===": "==", "!=": "!=", "ne": "!=", "<>": "!=", "!==": "!=",
}  # fmt: skip
_OPPOSITE: Final[dict[Operator, Operator]] = {"<": ">=", "<=": ">", ">": "<=", ">=": "<", "==": "!=", "!=": "=="}
_TURNED: Final[dict[Operator, Operator]] = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "==": "==", "!=": "!="}
_VERSION: Final = re.compile(r"\d{1,2}(?:\.\d{1,3}){0,2}")


def gates(root: Node, data: bytes) -> Iterator[Gate]:
    """The statements in one file."""
    for node in around(root, data, SPEAKING, ("function_call_expression", "binary_expression")):
        held = _compared(node)
        if held is None:
            continue
        operator, version, as_id, at = held
        for holds, result in consequences(at):
            if result:
                stated = _OPPOSITE[operator] if holds else operator
                yield Gate(stated, version, line(node), text(node)[:60], result, as_id)
                break


def _compared(node: Node) -> tuple[Operator, str | Name, bool, Node] | None:
    """PHP's version on the left of an operator, what stands on the right, and the expression that is true or not."""
    if called(node) == "version_compare":
        return _by_function(node)
    if node.type != "binary_expression":
        return None
    operator = _OPERATORS.get(text(node.child_by_field_name("operator")))
    left, right = unwrapped(node.child_by_field_name("left")), unwrapped(node.child_by_field_name("right"))
    if operator is None or left is None or right is None:
        return None
    if _is_version(right):
        left, right, operator = right, left, _TURNED[operator]
    if not _is_version(left):
        return None
    as_id = "PHP_VERSION_ID" in text(left)
    version = _version(right)
    return (operator, version, as_id, node) if version is not None else None


def _by_function(node: Node) -> tuple[Operator, str | Name, bool, Node] | None:
    given = arguments(node)
    if len(given) not in (2, 3):
        return None
    left, right = given[0], given[1]
    turned = _is_version(right)
    if not turned and not _is_version(left):
        return None
    version = _version(left if turned else right)
    if version is None:
        return None
    if len(given) == 3:
        operator = _OPERATORS.get(string(given[2]) or "")
        at = node
    else:
        operator, at = _of_number(node)
    if operator is None:
        return None
    return (_TURNED[operator] if turned else operator), version, False, at


def _of_number(node: Node) -> tuple[Operator | None, Node]:
    """``version_compare(...) < 0``: the operator, and the expression around."""
    above = node.parent
    while above is not None and above.type == "parenthesized_expression":
        Patience.tick()
        above = above.parent
    if above is None or above.type != "binary_expression":
        return None, node
    operator = _OPERATORS.get(text(above.child_by_field_name("operator")))
    number = text(unwrapped(above.child_by_field_name("right"))).replace(" ", "")
    meaning: dict[tuple[str, str], Operator] = {
        ("==", "-1"): "<", ("<", "0"): "<", ("<=", "-1"): "<", ("!=", "-1"): ">=", (">", "-1"): ">=", (">=", "0"): ">=",
        (">", "0"): ">", ("==", "1"): ">", (">=", "1"): ">", ("<=", "0"): "<=", ("<", "1"): "<=", ("!=", "1"): "<=",
    }  # fmt: skip
    return meaning.get((operator or "", number)), above


def _is_version(node: Node) -> bool:
    """Whether an expression is PHP's version, or the beginning of it."""
    if node.type == "cast_expression":
        return any(_is_version(child) for child in node.named_children)
    if called(node) in ("phpversion", "php_version"):
        return not arguments(node)
    if called(node) in ("substr", "floatval", "strtok"):
        given = arguments(node)
        return bool(given) and _is_version(given[0])
    return text(node).lstrip("\\") in ("PHP_VERSION", "PHP_VERSION_ID", "PHP_MAJOR_VERSION")


def _version(node: Node) -> str | Name | None:
    plain = string(node)
    if plain is not None:
        return plain if _VERSION.fullmatch(plain) or (plain.isdigit() and len(plain) < 7) else _leading(plain)
    if node.type in ("name", "qualified_name"):
        return Name("constant", text(node).rpartition("\\")[2])
    if node.type == "class_constant_access_expression":
        return Name("constant", text(node).rpartition("::")[2])
    if node.type == "variable_name":
        return Name("variable", text(node).lstrip("$"))
    if node.type in ("member_access_expression", "scoped_property_access_expression"):
        return Name("variable", re.split(r"->|::\$?", text(node))[-1])
    if node.type == "subscript_expression" and (key := string(node.named_children[-1])):
        return Name("key", key)
    return None


def _leading(plain: str) -> str | None:
    """The version at the beginning of a text such as ``5.6.0-dev``."""
    match = re.match(r"(\d{1,2}\.\d{1,3}(?:\.\d{1,3})?)[^\d.]", plain)
    return match[1] if match else None
