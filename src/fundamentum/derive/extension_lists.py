"""Lists of extensions that a program holds against what is loaded: by ``array_diff``, in a loop, in a table."""

import re
from collections.abc import Iterator
from typing import Final

import msgspec
from tree_sitter import Node

from fundamentum.derive.nodes import (
    Patience,
    arguments,
    around,
    branches,
    called,
    inside,
    line,
    outcome,
    string,
    text,
    unwrapped,
    walked,
)
from fundamentum.derive.quoted import extension_called

SPEAKING: Final = re.compile(rb"get_loaded_extensions|extension_loaded")
_RECOMMENDED: Final = re.compile(r"recommend|optional|suggest|advis|nice|warn", re.I)
_REQUIRED: Final = re.compile(r"requir|mandatory|must|needed|necessary|essential|critical", re.I)


class Listed(msgspec.Struct, frozen=True):
    """One extension of such a list."""

    extension: str
    required: bool
    line: int


def listed(root: Node, data: bytes) -> Iterator[Listed]:
    """The extensions that one file lists so."""
    for node in around(root, data, SPEAKING, ("function_call_expression", "foreach_statement")):
        name = called(node)
        if name == "array_diff" and "get_loaded_extensions" in text(node):
            given = arguments(node)
            if given and "get_loaded_extensions" not in text(given[0]):
                yield from _members(given[0], root, True)
        elif node.type == "foreach_statement":
            yield from _of_loop(node, root)
        elif name == "array_filter" and "extension_loaded" in text(node):
            given = arguments(node)
            if given:
                yield from _members(given[0], root, True)


def _of_loop(loop: Node, root: Node) -> Iterator[Listed]:
    """``foreach (LIST as $name) { if (!extension_loaded($name)) ... }``"""
    parts = [child for child in loop.named_children if child.type != "comment"]
    body = loop.child_by_field_name("body")
    if body is None or len(parts) < 3:
        return
    source, target = _outermost(parts[0], loop), parts[1]
    names = {text(target)} | {text(one) for one in walked(target) if one.type == "variable_name"}
    for node in inside(body):
        asks = called(node) == "extension_loaded" and any(text(one) in names for one in arguments(node))
        asks = asks or (called(node) == "in_array" and "get_loaded_extensions" in text(node))
        if not asks:
            continue
        at = node.parent if node.parent is not None and node.parent.type == "unary_op_expression" else node
        then, otherwise = branches(at)
        result = outcome(then if at is not node else otherwise)
        if result:
            yield from _members(source, root, result != "warns")
            return


def _outermost(source: Node, loop: Node) -> Node:
    """What is gone through, where it is itself one of the lists that a loop around goes through."""
    above = loop.parent
    while above is not None:
        Patience.tick()
        if above.type == "foreach_statement":
            parts = [child for child in above.named_children if child.type != "comment"]
            if any(text(one) == text(source) for one in walked(parts[1])):
                return _outermost(parts[0], above)
        above = above.parent
    return source


def _members(source: Node, root: Node, required: bool) -> Iterator[Listed]:
    """The names in a list, written there or kept under a name in the same file."""
    where = unwrapped(source)
    if where is None:
        return
    if where.type != "array_creation_expression":
        name = re.split(r"->|::\$?", text(where))[-1].lstrip("$")
        required = required and not _RECOMMENDED.search(name)
        where = _kept(name, root)
    if where is not None:
        yield from _of_array(where, required)


def _kept(name: str, root: Node) -> Node | None:
    """The list that is given to a variable, a property or a constant of that name."""
    for node in walked(root):
        if node.type == "assignment_expression":
            left = re.split(r"->|::\$?", text(node.child_by_field_name("left")))[-1].lstrip("$")
            right = node.child_by_field_name("right")
        elif node.type in ("property_element", "const_element"):
            left = text(node.named_children[0]).lstrip("$") if node.named_children else ""
            right = node.named_children[-1] if node.named_children else None
        else:
            continue
        if left == name and right is not None and right.type == "array_creation_expression":
            return right
        if left == name and right is not None:
            inner = next((one for one in walked(right) if one.type == "array_creation_expression"), None)
            if inner is not None:
                return inner
    return None


def _of_array(array: Node, required: bool) -> Iterator[Listed]:
    """Names, names with a level, or lists under the words for levels."""
    for element in (one for one in array.named_children if one.type == "array_element_initializer"):
        parts = [unwrapped(one) for one in element.named_children]
        key = string(parts[0]) if len(parts) == 2 else None
        value = parts[-1]
        level = required
        if key and (found := extension_called(key.encode())):
            said = text(value)
            level = required and said.lower() not in ("false", "0") and not _RECOMMENDED.search(said)
            level = level or bool(_REQUIRED.search(said)) or said.lower() == "true"
            yield Listed(found, level, line(element))
        elif value is not None and value.type == "array_creation_expression":
            if key:
                level = bool(_REQUIRED.search(key)) or (required and not _RECOMMENDED.search(key))
            yield from _of_array(value, level)
        elif (plain := string(value)) and (found := extension_called(plain.encode())):
            yield Listed(found, level, line(element))
