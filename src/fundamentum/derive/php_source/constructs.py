"""Questions to a parsed file that settle whether a construct of the language stands at a place.

Each takes the source and the node there; those that are given something answer with such a question.
"""

import re
from collections.abc import Callable
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import ancestors, field, nearest, text
from fundamentum.derive.php_source.source import Source

Confirm = Callable[[Source, Node], bool]

FUNCTIONS: Final = frozenset(
    {"function_definition", "method_declaration", "anonymous_function", "arrow_function",
     "anonymous_function_creation_expression"}
)  # fmt: skip
_TYPES: Final = frozenset({"named_type", "primitive_type", "optional_type", "union_type", "bottom_type"})


def stands_in(*types: str) -> Confirm:
    return lambda _, node: node.parent is not None and node.parent.type in types


def is_one_of(*types: str) -> Confirm:
    return lambda _, node: node.type in types


def stands_within(*types: str) -> Confirm:
    return lambda _, node: any(parent.type in types for parent, _ in ancestors(node))


def typed(source: Source, node: Node) -> bool:
    """A word where a type stands."""
    return node.type in _TYPES or (node.parent is not None and node.parent.type in _TYPES)


def returned(source: Source, node: Node) -> bool:
    """A type that a function returns."""
    if not typed(source, node):
        return False
    for parent, child in ancestors(node):
        if parent.type in FUNCTIONS:
            return field(parent, "return_type") == child
    return False


def returned_alone(source: Source, node: Node) -> bool:
    """A type that a function returns, and none beside it."""
    around = nearest(node, "union_type", *FUNCTIONS)
    return returned(source, node) and around is not None and around.type in FUNCTIONS


def has_type(source: Source, node: Node) -> bool:
    declaration = nearest(node, "property_declaration", "compound_statement")
    if declaration is None or declaration.type != "property_declaration":
        return False
    return field(declaration, "type") is not None


def typed_constant(source: Source, node: Node) -> bool:
    declaration = node.parent
    return (
        declaration is not None
        and declaration.type == "const_declaration"
        and any(child.type in _TYPES for child in declaration.named_children)
    )


def constant_of_trait(source: Source, node: Node) -> bool:
    inside = nearest(node, "trait_declaration", "class_declaration", "anonymous_class", "function_definition")
    return node.type == "const" and inside is not None and inside.type == "trait_declaration"


def chosen_of_chosen(source: Source, node: Node) -> bool:
    """``$a ? 1 : $b ? 2 : 3``; what is short on both sides (``?:``) went on."""
    above = node.parent
    first = field(above, "condition")
    if above is None or above.type != "conditional_expression" or first is None:
        return False
    full = field(above, "body") is not None or field(first, "body") is not None
    return first.type == "conditional_expression" and full


def default_new(source: Source, node: Node) -> bool:
    """``new`` in the default value of a parameter."""
    for parent, child in ancestors(node):
        if parent.type in ("simple_parameter", "property_promotion_parameter"):
            return field(parent, "default_value") == child
        if parent.type.endswith("_statement"):
            return False
    return False


def thrown(source: Source, node: Node) -> bool:
    """``throw`` as an expression, not as a statement."""
    expression = node.parent
    return (
        expression is not None
        and expression.type == "throw_expression"
        and expression.parent is not None
        and expression.parent.type != "expression_statement"
    )


def caught_without_name(source: Source, node: Node) -> bool:
    clause = node.parent
    return clause is not None and clause.type == "catch_clause" and field(clause, "name") is None


def on_object(source: Source, node: Node) -> bool:
    access = node.parent
    return (
        access is not None
        and access.type == "class_constant_access_expression"
        and access.children[0].type == "variable_name"
    )


def readonly(*places: str) -> Confirm:
    def confirm(source: Source, node: Node) -> bool:
        modifier = node if node.type == "readonly_modifier" else node.parent
        return modifier is not None and modifier.parent is not None and modifier.parent.type in places

    return confirm


def handed_by_reference(source: Source, node: Node) -> bool:
    """``collect(&$plates)``, where the call says so and not the function."""
    modifier = node if node.type == "reference_modifier" else node.parent
    return modifier is not None and modifier.parent is not None and modifier.parent.type == "argument"


def trailing_comma(*lists: str) -> Confirm:
    def confirm(source: Source, node: Node) -> bool:
        comma = source.at(node.start_byte, node.start_byte + 1)
        return comma is not None and comma.type == "," and comma.parent is not None and comma.parent.type in lists

    return confirm


def indented_end(source: Source, node: Node) -> bool:
    heredoc = nearest(node, "heredoc", "nowdoc")
    if heredoc is None:
        return False
    last = source.data[: heredoc.end_byte].rsplit(b"\n", 1)[-1]
    return last[:1] in (b" ", b"\t")


def underscored(source: Source, node: Node) -> bool:
    return node.type in ("integer", "float") and "_" in text(node)


def called_on_new(source: Source, node: Node) -> bool:
    creation = node if node.type == "object_creation_expression" else node.parent
    if creation is None or creation.type != "object_creation_expression" or creation.parent is None:
        return False
    place = creation.parent
    return place.type in ("member_call_expression", "member_access_expression") and field(place, "object") == creation


def cloned_with(source: Source, node: Node) -> bool:
    clone = node.parent
    return clone is not None and clone.type == "clone_expression" and any(c.type == "arguments" for c in clone.children)


_QUOTED: Final = frozenset(
    {"comment", "text", "string_content", "string", "encapsed_string", "heredoc_body", "nowdoc_body", "heredoc",
     "nowdoc_string", "shell_command_expression", "escape_sequence"}
)  # fmt: skip


def in_code(source: Source, node: Node) -> bool:
    return node.type not in _QUOTED and not any(parent.type in _QUOTED for parent, _ in ancestors(node))


def braced_offset(*, asked_for: bool) -> Confirm:
    """``$text{0}``: the brace follows a variable at once.  ``asked_for``: within ``isset``, which went on taking it."""

    def confirm(source: Source, node: Node) -> bool:
        before = source.data[max(node.start_byte - 120, 0) : node.start_byte]
        offset = re.search(rb"(?P<isset>isset\s*\(\s*)?\$\w+(?:->\w+|\[[^\[\]]{0,60}\])*$", before)
        return in_code(source, node) and offset is not None and (offset["isset"] is not None) is asked_for

    return confirm


_TYPED_IN_EXCEPTIONS: Final = frozenset({"exception", "error", "errorexception", "runtimeexception", "logicexception"})


def untyped_in_exception(source: Source, node: Node) -> bool:
    """A property that exceptions have with a type, declared again without one."""
    declaration = nearest(node, "property_declaration", "class_declaration")
    around = nearest(node, "class_declaration")
    base = (
        next((part for part in around.named_children if part.type == "base_clause"), None)
        if around is not None
        else None
    )
    if declaration is None or declaration.type != "property_declaration" or base is None:
        return False
    untyped = field(declaration, "type") is None
    return untyped and source.names.class_name(text(base.named_children[0]), base.start_byte) in _TYPED_IN_EXCEPTIONS


def names_function(source: Source, node: Node) -> bool:
    return node.parent is not None and node.parent.type == "function_definition" and field(node.parent, "name") == node


def outside_classes(source: Source, node: Node) -> bool:
    """In code, and no member of a class: those may be called anything."""
    return in_code(source, node) and not any(parent.type == "declaration_list" for parent, _ in ancestors(node))


_CLASS: Final = re.compile(rb"\bclass\s+(\w+)")
_FUNCTION: Final = re.compile(rb"\bfunction\s+&?\s*(\w+)")


_MODIFIERS: Final = ("visibility_modifier", "static_modifier", "abstract_modifier", "final_modifier")


def may_have_constructor_of_old(code: bytes) -> bool:
    """Whether a function is called as a class is, in code in small letters."""
    return not set(_CLASS.findall(code)).isdisjoint(_FUNCTION.findall(code))


def is_constructor_of_old(source: Source, node: Node) -> bool:
    """A method that made objects of its class as long as it was called like it; there is no other constructor.

    One of that time has no visibility, and fills the object: any other may be meant to be called by its name.
    """
    method, around = node.parent, nearest(node, "class_declaration")
    if method is None or around is None or method.type != "method_declaration":
        return False
    name, body = field(around, "name"), field(around, "body")
    if name is None or body is None or method.parent != body or source.names.namespace(node.start_byte):
        return False
    if text(name).lower() != text(node).lower():
        return False
    if any(part.type in _MODIFIERS for part in method.named_children) or "$this->" not in text(method):
        return False
    methods = (part for part in body.named_children if part.type == "method_declaration")
    names = {text(called).lower() for part in methods if (called := field(part, "name")) is not None}
    return "__construct" not in names


_EVALUATES: Final = re.compile(r"""['"]\s*([^\w\s\\]).*([^\w\s\\])(\w*)['"]""", re.S)
_CLOSING: Final = {"(": ")", "[": "]", "{": "}", "<": ">"}


def evaluates_replacement(source: Source, node: Node) -> bool:
    """The pattern of a replacement that is run as code, by its modifier ``e``."""
    literal = nearest(node, "string", "encapsed_string") or node
    match = _EVALUATES.fullmatch(text(literal))
    return match is not None and "e" in match[3] and match[2] == _CLOSING.get(match[1], match[1])
