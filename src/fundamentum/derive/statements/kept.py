"""What is kept under a name in the same file: the list, the text, the expression that is given to it."""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import (
    arguments,
    around,
    called,
    children,
    field,
    string,
    text,
    unwrapped,
    walked,
)

_KEEPING: Final = (
    "function_call_expression",
    "assignment_expression",
    "property_element",
    "const_element",
    "simple_parameter",
)


def plain_name(written: str) -> str:
    """The name of a variable, a property or a constant, however it is reached."""
    return re.split(r"->|::\$?", written)[-1].lstrip("$\\")


def kept_part(where: Node, root: Node) -> Node | None:
    """What stands under a key of a list that is kept: ``$requirements['extensions']``."""
    subscript = where.type == "subscript_expression" and where.named_child_count > 1
    key = string(where.named_children[1]) if subscript else None
    table = kept_list(text(where.named_children[0]), root) if key else None
    for element in children(table):
        parts = [unwrapped(node) for node in element.named_children]
        if len(parts) == 2 and string(parts[0]) == key:
            return parts[1]
    return None


def list_of(where: Node, root: Node) -> Node | None:
    """The list that stands at a place, or that is given to the name which stands there."""
    return where if where.type == "array_creation_expression" else kept_list(text(where), root)


def kept_list(written: str, root: Node) -> Node | None:
    """The list that is given to a variable, a property or a constant of that name."""
    for given in all_given(plain_name(written), root):
        array = next((inner for inner in walked(given) if inner.type == "array_creation_expression"), None)
        if array is not None:
            return array
    return None


def returned(function: str, root: Node) -> Node | None:
    """What a function or method of the same file returns, if it does nothing else.  ``function``: in lower case."""
    named = re.compile(rb"function\s++&?\s*+%s\b" % re.escape(function.encode("utf-8", "replace")), re.I)
    for node in around(root, root.text or b"", named, ("function_definition", "method_declaration")):
        body = field(node, "body")
        lines = children(body)
        if len(lines) == 1 and lines[0].type == "return_statement" and lines[0].named_children:
            return lines[0].named_children[0]
    return None


def first_given(name: str, root: Node) -> Node | None:
    """What is given to a variable, a property or a constant of that name first."""
    return next(all_given(name, root), None)


def all_given(name: str, root: Node) -> Iterator[Node]:
    """All that is given to it, in order."""
    # It begins with the name itself, so that it is found fast; what only ends with it is sorted out below.
    word = re.compile(rb"%s\b(?=['\"]?\s*(?:=(?![=>])|,))" % re.escape(name.encode("utf-8", "replace")))
    for node in around(root, root.text or b"", word, _KEEPING) if name else ():
        if node.type == "function_call_expression":
            given = arguments(node) if called(node) == "define" else []
            left, right = (string(given[0]), given[1]) if len(given) > 1 else ("", None)
        elif node.type == "assignment_expression":
            left = plain_name(text(field(node, "left")))
            right = field(node, "right")
        else:
            named = field(node, "name") or next(iter(node.named_children), None)
            left = text(named).lstrip("$")
            right = node.named_children[-1] if node.named_child_count > 1 else None
        if left == name and right is not None:
            yield right
