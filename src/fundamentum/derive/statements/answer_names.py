"""Names that hold the answer of a check: ``$has = function_exists('x');``, ``return extension_loaded('gd');``"""

import re
from collections.abc import Iterator, Mapping
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import ancestors, arguments, field, names_around, string, text
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.statements.checks import Checks
from fundamentum.derive.statements.condition_names import names_in

_GIVES_BACK: Final = re.compile(
    rb"\bfunction\s+(\w+)\s*\([^(){}]{0,200}\)[^{};]{0,40}\{\s*+return\s++([^;!|?{}]{1,300});\s*+\}"
)
"""A function that does nothing else than answer, not with the contrary."""
_ASSIGNING: Final = ("assignment_expression", "augmented_assignment_expression")
_WRITTEN_OUT: Final = frozenset({"boolean", "string", "encapsed_string", "integer"})
MAX_LINES: Final = 6
"""Statements of a branch that are looked at."""


def names_holding(checks: Checks, source: Source) -> dict[str, set[str]]:
    """Names (``$has``, ``->usable``, ``available()``, ``HAS_GD``) → the extensions whose checks they answer."""
    names: dict[str, set[str]] = {}
    for check in checks.at:
        node = checks.node(check)
        for name in _answering(node, source) if node is not None else ():
            names.setdefault(name, set()).update(check.extensions)
    names.pop("", None)
    return names | dict(_passing_on(names, source)) if names else names


def _answering(check: Node, source: Source) -> Iterator[str]:
    """The names that hold what comes of one check; some are empty."""
    for parent, child in ancestors(check):
        if parent.type in _ASSIGNING and field(parent, "right") == child:
            name = _first_name(field(parent, "left"))
            yield from (name, _function(parent) if _given_back(parent, name) else "")
        elif parent.type == "const_element":
            yield text(parent.children[0])
        elif parent.type == "function_call_expression" and source.called(parent) == "define":
            yield string(next(iter(arguments(parent)), None)) or ""
        elif parent.type == "if_statement" and field(parent, "condition") == child:
            yield from _assigned(parent)
            yield _function(parent) if b"return" in ((field(parent, "body") or parent).text or b"")[:200] else ""
        elif parent.type == "return_statement":
            yield _function(parent)
        if parent.type.endswith("_statement") or parent.type in ("program", "compound_statement"):
            return


def _given_back(assigned: Node, name: str) -> bool:
    """Whether a function gives back what it keeps: ``$usable = extension_loaded('gd'); return $usable;``"""
    behind = assigned.parent.next_named_sibling if assigned.parent is not None else None
    return behind is not None and text(behind).removeprefix("return").strip(" ;()") == name


def _passing_on(names: Mapping[str, set[str]], source: Source) -> Iterator[tuple[str, set[str]]]:
    """Functions that only give back what another one answers: ``return $this->chosen && has_imagick();``"""
    for function, answer in _GIVES_BACK.findall(source.data):
        told = [names[name] for name in names_in(answer) if name in names]
        if told and all(held == told[0] for held in told):
            yield f"{function.decode('latin-1').lower()}()", told[0]


def _assigned(statement: Node) -> Iterator[str]:
    """``if (function_exists('x')) { $has = true; }``, ``if (...) { } else { $missing[] = ...; }``"""
    others = statement.children_by_field_name("alternative")[:1]
    bodies = [body for clause in (statement, *others) if (body := field(clause, "body")) is not None]
    for node in (part for body in bodies for part in body.named_children[:MAX_LINES]):
        expression = node.named_children[0] if node.type == "expression_statement" and node.named_children else None
        if expression is None or expression.type != "assignment_expression":
            continue
        left, right = field(expression, "left"), field(expression, "right")
        if left is not None and right is not None and (right.type in _WRITTEN_OUT or _put_to_list(left)):
            yield _first_name(left)


def _first_name(left: Node | None) -> str:
    return next(names_in((left.text or b"") if left is not None else b""), "")


def _put_to_list(left: Node) -> bool:
    """``$missing[] = ...``"""
    return left.type == "subscript_expression" and left.named_child_count == 1


def _function(node: Node) -> str:
    """The function that a place stands in, as a name: ``available()``."""
    name = names_around(node)[1]
    return f"{name}()" if name else ""
