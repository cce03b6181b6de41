"""The same PHP code written otherwise: each way is an entry of ``WAYS``.

What comes of a program does not depend on how it is written, so whatever is derived of it must not either.
"""

import re
from collections.abc import Callable, Mapping
from functools import partial

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import arguments, called, field, nearest, parsed, text

ANSWERING = frozenset({"extension_loaded", "function_exists", "class_exists", "interface_exists", "method_exists"})
PHP_OWN = ANSWERING | {"version_compare", "phpversion", "ini_get", "array_diff", "array_filter", "in_array"}
LATER = ("const_declaration", "property_declaration", "simple_parameter", "enum_case", "attribute", "case_statement")
"""Where only what is known beforehand may stand."""
BLOCKS = ("compound_statement", "program")
TURNED = {"<": ">", ">": "<", "<=": ">=", ">=": "<=", "==": "==", "===": "===", "!=": "!=", "!==": "!=="}
AS_NUMBER = {"'<'": "< 0", "'lt'": "< 0", "'<='": "<= 0", "'>='": ">= 0", "'ge'": ">= 0", "'>'": "> 0", "'gt'": "> 0"}
HELPERS = """<?php
class Platform {
    public static function hasExtension($name) { return extension_loaded($name); }
    public static function function_exists($name) { return function_exists($name); }
    public static function class_exists($name) { return class_exists($name); }
}
"""

Written = Callable[[Node], str]
"""Gives a node as text, with what is below it written otherwise."""
Way = Callable[[Node, Written], str | None]
"""A node written otherwise; None: it stays."""


def written_otherwise(files: Mapping[str, str | bytes], way: str) -> dict[str, str | bytes] | None:
    """An application's files written in one of the ways; None: nothing in them is written so."""
    new = {path: _rewritten(content, way) for path, content in files.items()}
    if new == files:
        return None
    return {**new, "lib/Platform.php": HELPERS} if way == "asked by a helper" else new


def _rewritten(content: str | bytes, way: str) -> str | bytes:
    if isinstance(content, bytes) or "<?php" not in content:
        return content
    root = parsed(content.encode())
    return content if root.has_error else content[: len(content) - len(text(root))] + _whole(root, WAYS[way])


def _whole(node: Node, way: Way) -> str:
    return way(node, partial(_whole, way=way)) or _with_parts(node, way)


def _with_parts(node: Node, way: Way) -> str:
    """A node as it is, but what is below it."""
    if not node.children:
        return text(node)
    data, at, out = node.text or b"", node.start_byte, ""
    for child in node.children:
        out += data[at - node.start_byte : child.start_byte - node.start_byte].decode() + _whole(child, way)
        at = child.end_byte
    return out + data[at - node.start_byte :].decode()


def _of_if(one: Callable[[Node, str, Node, Node | None, Written], str | None]) -> Way:
    """A way to write an ``if`` that has one other branch at most, in braces."""

    def way(node: Node, write: Written) -> str | None:
        body, condition = field(node, "body"), field(node, "condition")
        others = node.children_by_field_name("alternative") if node.type == "if_statement" else []
        otherwise = field(others[0], "body") if others and others[0].type == "else_clause" else None
        plain = len(others) <= 1 and (not others or otherwise is not None)
        if body is None or condition is None or node.type != "if_statement" or not plain or body.type == "colon_block":
            return None
        return one(node, write(condition), body, otherwise, write)

    return way


def _in_braces(body: Node, write: Written) -> str:
    return write(body) if body.type == "compound_statement" else f"{{ {write(body)} }}"


def _negated(_: Node, condition: str, body: Node, otherwise: Node | None, write: Written) -> str:
    other = _in_braces(otherwise, write) if otherwise is not None else "{}"
    return f"if (!{condition}) {other} else {_in_braces(body, write)}"


def _kept_first(node: Node, condition: str, body: Node, otherwise: Node | None, write: Written) -> str | None:
    if node.parent is None or node.parent.type not in BLOCKS:
        return None
    other = f" else {_in_braces(otherwise, write)}" if otherwise is not None else ""
    return f"$held{node.start_byte} = {condition}; if ($held{node.start_byte}) {_in_braces(body, write)}{other}"


def _for_templates(_: Node, condition: str, body: Node, otherwise: Node | None, write: Written) -> str | None:
    if body.type != "compound_statement" or (otherwise is not None and otherwise.type != "compound_statement"):
        return None
    other = f" else: {write(otherwise)[1:-1]}" if otherwise is not None else ""
    return f"if {condition}: {write(body)[1:-1]}{other} endif;"


def _by_a_word(_: Node, condition: str, body: Node, otherwise: Node | None, write: Written) -> str | None:
    lines = [node for node in body.named_children if node.type != "comment"]
    only = lines[0] if len(lines) == 1 and body.type == "compound_statement" else body
    if otherwise is not None or only.type not in ("exit_statement", "expression_statement"):
        return None
    done = write(only) if only.type == "exit_statement" else f"({write(only.named_children[0])});"
    return f"{condition} and {done}"


def _of_call(names: frozenset[str] | set[str], one: Callable[[Node, str, Written], str | None]) -> Way:
    """A way to write a call of one of PHP's own functions, whose answer is looked at."""

    def way(node: Node, write: Written) -> str | None:
        above = node.parent
        if node.type != "function_call_expression" or above is None or above.type == "expression_statement":
            return None
        function, given = field(node, "function"), field(node, "arguments")
        if function is None or function.type != "name" or given is None or "..." in text(given):
            return None
        return one(node, write(given), write) if called(node) in names else None

    return way


def _by_helper(node: Node, given: str, _: Written) -> str | None:
    if len(arguments(node)) != 1:
        return None
    return f"\\Platform::{called(node).replace('extension_loaded', 'hasExtension')}{given}"


def _as_number(node: Node, _: str, write: Written) -> str | None:
    given = [write(argument) for argument in arguments(node)]
    sign = AS_NUMBER.get(given[2].replace('"', "'")) if len(given) == 3 else None
    return f"(version_compare({given[0]}, {given[1]}) {sign})" if sign else None


def _sides_changed(node: Node, write: Written) -> str | None:
    sign, left, right = (field(node, name) for name in ("operator", "left", "right"))
    if node.type != "binary_expression" or left is None or right is None or text(sign) not in TURNED:
        return None
    return f"{write(right)} {TURNED[text(sign)]} {write(left)}"


def _remarks(node: Node, write: Written) -> str | None:
    inner = "".join(write(one) + "\n" for one in node.named_children)
    return f"{{ /* see the manual */ {inner} // done\n}}" if node.type == "compound_statement" else None


def _double_quotes(node: Node, _: Written) -> str | None:
    plain = re.fullmatch(r"'([^\\'\"$]*)'", text(node)) if node.type == "string" else None
    return f'"{plain[1]}"' if plain else None


def _given_back_later(node: Node, write: Written) -> str | None:
    function = nearest(node, "function_definition", "method_declaration") if node.type == "return_statement" else None
    values = [one for one in node.named_children if one.type != "comment"]
    if function is None or not values or "&" in text(function)[:30] or node.parent is None:
        return None
    if values[0].type == "variable_name" or node.parent.type not in BLOCKS:
        return None
    return f"$result = {write(values[0])}; return $result;"


def _put_together(node: Node, _: Written) -> str | None:
    words = re.fullmatch(r"'([^\\'\"$\n%]*) ([^\\'\"$\n%]*)'", text(node)) if node.type == "string" else None
    above = node.parent
    if words is None or above is None or above.type == "array_element_initializer" or nearest(node, *LATER):
        return None
    return f"sprintf('%s {words[2]}', '{words[1]}')"


WAYS: Mapping[str, Way] = {
    "negated": _of_if(_negated),
    "kept in a variable first": _of_if(_kept_first),
    "in the syntax for templates": _of_if(_for_templates),
    "joined by a word": _of_if(_by_a_word),
    "asked by a helper": _of_call(ANSWERING - {"interface_exists", "method_exists"}, _by_helper),
    "converted": _of_call(set(ANSWERING), lambda node, given, _: f"(bool) {called(node)}{given}"),
    "held against true": _of_call(set(ANSWERING), lambda node, given, _: f"(true === {called(node)}{given})"),
    "in capitals": _of_call(PHP_OWN, lambda node, given, _: called(node).upper() + given),
    "with its namespace": _of_call(PHP_OWN, lambda node, given, _: f"\\{called(node)}{given}"),
    "compared as numbers": _of_call({"version_compare"}, _as_number),
    "the sides changed": _sides_changed,
    "with remarks": _remarks,
    "in double quotes": _double_quotes,
    "given back later": _given_back_later,
    "put together": _put_together,
}
