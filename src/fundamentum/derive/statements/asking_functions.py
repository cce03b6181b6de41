"""Functions of a program that ask for the extension they are given, and classes that ask for the one they name.

``function need($name) { if (!extension_loaded($name)) exit; }``
``class Requirement { function isFulfilled() { return extension_loaded($this->name); } }``
"""

import re
from collections.abc import Iterable, Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Asker, Name, Outcome
from fundamentum.derive.php_source.nodes import (
    arguments,
    around,
    called,
    inside,
    names_around,
    nearest,
    text,
    walked,
)
from fundamentum.derive.php_source.scalars import is_true
from fundamentum.derive.php_source.source import CHECKS
from fundamentum.derive.statements.branches import branches
from fundamentum.derive.statements.consequences import consequences
from fundamentum.derive.statements.loops import loops_around
from fundamentum.derive.statements.truth import climbed, literal
from fundamentum.derive.statements.versions_compared import Compared

_ASKING: Final = (b"extension_loaded", b"function_exists", b"class_exists", b"ini_get", b"array_diff")
_ASKED: Final = re.compile(b"|".join(sorted(_ASKING)))
_KINDS: Final = frozenset({"extension", "function", "class"})
_FUNCTIONS: Final = frozenset({"function_definition", "method_declaration"})
_SOURCES: Final = frozenset(
    {"variable_name", "member_access_expression", "member_call_expression", "class_constant_access_expression"}
)
"""Where what is asked for may come from."""
MAX_ASKERS: Final = 20
"""Such functions of one file: a program has one or two."""
MADE: Final = "__construct"


def askers(root: Node, lowered: bytes, compared: Iterable[Compared]) -> Iterator[Asker]:
    """The functions and classes of one file that ask for what they are given.

    ``lowered``: its code in lower case; ``compared``: where it compares PHP's version.
    """
    for place, condition, holding, failing in compared:
        version = holding[0][1] if holding else ""
        position = _position(place, f"${version.name}") if isinstance(version, Name) else None
        if position is None:
            continue
        class_name, function = names_around(place)
        told = next(((holds, result) for holds, result in consequences(condition) if result), None)
        answers = answered(condition)
        if function and (told or answers):
            name, made = (class_name, True) if function == MADE else (function, False)
            (operator, _), *_ = failing if told and told[0] else holding
            outcome, where = told[1] if told else "", f"{class_name} {function}"
            yield Asker("call", name, position, False, "php", outcome, answers, where, made, operator)
    asks = any(word in lowered for word in _ASKING)
    for call in around(root, lowered, _ASKED, ("function_call_expression",)) if asks else ():
        given = arguments(call)
        if called(call) == "ini_get" and given and given[0].type == "variable_name":
            yield from _of_setting(call, text(given[0]))
        if called(call) == "array_diff" and "get_loaded_extensions" in text(given[-1] if given else None):
            yield from _of_difference(call, given[0])
        kind = CHECKS.get(called(call), "")
        if kind in _KINDS and given:
            yield from _of_check(call, given[0], kind)


def _of_check(call: Node, asked: Node, kind: str) -> Iterator[Asker]:
    """Where what one check asks for comes from: a parameter, a property, a method, a constant of the class."""
    source, listed = gone_through(call, asked) if asked.type in _SOURCES else (asked, False)
    if source.type not in _SOURCES:
        return
    class_name, function = names_around(call)
    told = _where_missing(call)
    answers = answered(call)
    if not (told or answers) or not function:
        return
    where = f"{class_name} {function}"
    written = re.sub(r"^(?:\$this->|self::|static::)", "", text(source))
    if source.type == "variable_name":
        position = _position(call, text(source))
        if position is not None:
            name = class_name if function == MADE else function
            yield Asker("call", name, position, listed, kind, told, answers, where, made=function == MADE)
    elif source.type == "member_access_expression" and class_name:
        yield Asker("property", written, 0, listed, kind, told, answers, where)
        position = _given_when_made(call, written)
        if position is not None:
            yield Asker("call", class_name, position, listed, kind, told, answers, where, made=True)
    elif source.type == "member_call_expression" and class_name and not arguments(source):
        yield Asker("method", called(source), 0, listed, kind, told, answers, where)
    elif source.type == "class_constant_access_expression" and class_name and text(source).startswith("static::"):
        yield Asker("constant", written, 0, listed, kind, told, answers, where)


def _of_difference(call: Node, asked: Node) -> Iterator[Asker]:
    """``function missing($names) { return array_diff($names, get_loaded_extensions()); }``"""
    position, (class_name, function) = _position(call, text(asked)), names_around(call)
    told: Outcome = next((result for holds, result in consequences(call) if result and holds), "")
    answers = {"present": "missing", "missing": "present"}.get(answered(call), "")
    if position is not None and function and (told or answers):
        yield Asker("call", function, position, True, "extension", told, answers, f"{class_name} {function}")


def _of_setting(call: Node, directive: str) -> Iterator[Asker]:
    """A function that is given a directive and, behind it, the least that it must be."""
    position, (class_name, function) = _position(call, directive), names_around(call)
    comparison = nearest(call, "binary_expression")
    found = consequences(comparison) if comparison is not None else ()
    told: Outcome = next((result for _, result in found if result), "")
    if position is not None and told:
        yield Asker("call", function, position, False, "setting", told, "", f"{class_name} {function}")


def gone_through(call: Node, asked: Node) -> tuple[Node, bool]:
    """The list, where the member is asked for that a loop has come to; else what is asked for."""
    function = nearest(call, *_FUNCTIONS)
    for loop in loops_around(call):
        if function is not None and loop.body.start_byte < function.start_byte:
            break
        if text(asked) in loop.variables:
            return loop.source, True
    return asked, False


def _where_missing(call: Node) -> Outcome:
    """What comes of it in the function itself where the extension is missing."""
    return next((result for holds, result in consequences(call) if result and not holds), "")


def answered(call: Node) -> str:
    """What the function returns: ``present`` something true where it is there, ``missing`` where it is not."""
    for at, worth in climbed(call):
        if at.parent is not None and at.parent.type == "return_statement":
            bad = worth.bad()
            return "" if bad is None else "missing" if bad else "present"
        for holds, branch in zip((True, False), branches(at), strict=True):
            returned = next((one for one in inside(branch) if one.type == "return_statement"), None) if branch else None
            value = literal(returned.named_children[0]) if returned is not None and returned.named_children else None
            if value is not None:
                there = worth.held is not None and is_true(worth.held) is holds
                return "present" if there is is_true(value) else "missing"
    return ""


def _position(call: Node, variable: str) -> int | None:
    """Which parameter of the function around a variable is; None: it is none."""
    function = nearest(call, *_FUNCTIONS)
    return _among(function, variable)


def _among(function: Node | None, variable: str) -> int | None:
    parameters = function.child_by_field_name("parameters") if function is not None else None
    named = parameters.named_children if parameters is not None else []
    names = [text(one.child_by_field_name("name")) for one in named if one.type.endswith("parameter")]
    return names.index(variable) if variable in names else None


def _given_when_made(call: Node, property_name: str) -> int | None:
    """Which parameter of the constructor a property is given."""
    around_it = nearest(call, "class_declaration")
    makers = (node for node in walked(around_it) if node.type == "method_declaration") if around_it is not None else ()
    maker = next((node for node in makers if text(node.child_by_field_name("name")).lower() == MADE), None)
    if maker is None:
        return None
    kept = re.search(rf"\$this->{re.escape(property_name)}\s*=\s*(\$\w+)\s*;", text(maker))
    return _among(maker, kept[1] if kept else f"${property_name}")
