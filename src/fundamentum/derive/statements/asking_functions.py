"""Functions of a program that ask for the extension they are given, and classes that ask for the one they name.

``function need($name) { if (!extension_loaded($name)) exit; }``
``class Requirement { function isFulfilled() { return extension_loaded($this->name); } }``
"""

import itertools
import re
from collections.abc import Iterable, Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Asker, Outcome
from fundamentum.derive.php_source.nodes import (
    arguments,
    around,
    called,
    children,
    field,
    inside,
    names_around,
    nearest,
    text,
    walked,
)
from fundamentum.derive.php_source.scalars import is_true
from fundamentum.derive.statements.branches import branches, function_of, named_behind, set_by
from fundamentum.derive.statements.consequences import consequences
from fundamentum.derive.statements.limit_checks import compared_where
from fundamentum.derive.statements.switch_checks import switch_condition
from fundamentum.derive.statements.truth import CONDITION, Worth, climbed, literal
from fundamentum.derive.statements.versions_compared import Compared

_FUNCTIONS: Final = frozenset({"function_definition", "method_declaration"})
SOURCES: Final = frozenset(
    {"variable_name", "member_access_expression", "member_call_expression", "class_constant_access_expression"}
)
"""Expressions that a function's caller, or a class, gives a value."""
MAX_PLACES: Final = 6
"""Places that ask for a variable which holds an answer."""
MAX_ASKERS: Final = 20
"""Such functions of one file: a program has one or two."""
MADE: Final = "__construct"
_INI_GET: Final = re.compile(rb"ini_get")


def asking_for_versions(compared: Iterable[Compared]) -> Iterator[Asker]:
    """The functions that ask for the version of PHP they are given, and those that answer whether there is one.

    ``compared``: where the file compares PHP's version.
    """
    for place, condition, holding, failing in compared:
        class_name, function = names_around(place)
        operator, version = (holding or failing)[0]
        answers = answered(condition, missing=not holding) if function else ""
        answers = answers or (collected(condition, missing=not holding) if function else "")
        where = f"{class_name} {function}"
        if isinstance(version, str):
            for operator, version in (holding or failing) if answers else ():
                names = (version,) if isinstance(version, str) else ()
                yield Asker("answer", function, 0, False, "php", "", answers, where, operator=operator, names=names)
        elif holding and (position := _position(place, f"${version.name}")) is not None and function:
            told = next(consequences(condition), None)
            operator = failing[0][0] if told and told[0] else operator
            if told or answers:
                name = class_name if function == MADE else function
                outcome = told[1] if told else ""
                yield Asker("call", name, position, False, "php", outcome, answers, where, function == MADE, operator)


def asking_for_settings(root: Node, lowered: bytes) -> Iterator[Asker]:
    """Functions that are given a directive and, behind it, the least that it must be."""
    for call in around(root, lowered, _INI_GET, ("function_call_expression",)):
        given = arguments(call)
        class_name, function = names_around(call)
        position = _position(call, text(given[0])) if given and given[0].type == "variable_name" else None
        if called(call) != "ini_get" or position is None:
            continue
        comparison, where = compared_where(root, call), f"{class_name} {function}"
        told = [result for _, result in consequences(comparison)] if comparison is not None else []
        condition, on_where_true = switch_condition(call)
        answers = answered(condition, missing=not on_where_true)
        if comparison is not None and (told or text(field(comparison, "operator")) in ("<", "<=", ">", ">=")):
            yield Asker("call", function, position, False, "setting", told[0] if told else "", "", where)
        elif answers:
            yield Asker("call", function, position, False, "switch", "", answers, where)


def askers_of(place: Node, source: Node, listed: bool, kind: str, told: Outcome, answers: str) -> Iterator[Asker]:
    """The functions and classes that give what one check asks for: a parameter, a property, a method, a constant.

    ``source``: what is asked for, or the list that it is a member of (``listed``); ``told``: what comes of it where
    one is missing; ``answers``: what the function returns.
    """
    if not (told or answers):
        return
    class_name, function = names_around(place)
    where = f"{class_name} {function}"
    written = re.sub(r"^(?:\$this->|self::|static::)", "", text(source))
    if source.type == "variable_name":
        position = _position(place, text(source))
        if position is not None:
            name = class_name if function == MADE else function
            yield Asker("call", name, position, listed, kind, told, answers, where, made=function == MADE)
    elif not class_name:
        return
    elif source.type == "member_access_expression":
        yield Asker("property", written, 0, listed, kind, told, answers, where)
        for method, position, one_by_one in _given_by_methods(place, written):
            made = method == MADE
            name, of_list = class_name if made else method, listed and not one_by_one
            yield Asker("call", name, position, of_list, kind, told, answers, where, made=made)
    elif source.type == "member_call_expression" and not arguments(source):
        yield Asker("method", called(source), 0, listed, kind, told, answers, where)
    elif source.type == "class_constant_access_expression" and text(source).startswith("static::"):
        yield Asker("constant", written, 0, listed, kind, told, answers, where)


def answered(condition: Node, *, missing: bool = False, given: Worth = CONDITION) -> str:
    """What the function returns: ``present`` something true where it is there, ``missing`` where it is not.

    ``missing``: what the condition comes to where it is not; ``given``: what a variable comes to that holds it.
    """
    for at, worth in climbed(condition, given):
        kept = field(at.parent, "left") if at.parent is not None and at.parent.type == "assignment_expression" else None
        if kept is not None and kept.type == "variable_name":
            places = itertools.islice(named_behind(kept, function_of(kept)), MAX_PLACES)
            return next(filter(None, (answered(place, missing=missing, given=worth) for place in places)), "")
        if at.parent is not None and at.parent.type == "return_statement":
            bad = worth.bad()
            return "" if bad is None else "missing" if bad is not missing else "present"
        for holds, branch in zip((True, False), branches(at), strict=True):
            returned = next((one for one in inside(branch) if one.type == "return_statement"), None) if branch else None
            value = literal(returned.named_children[0]) if returned is not None and returned.named_children else None
            if value is not None:
                there = (worth.held is not None and is_true(worth.held) is holds) is not missing
                return "present" if there is is_true(value) else "missing"
    return ""


def collected(condition: Node, *, missing: bool = False) -> str:
    """The same where the function returns what it collects of those that are: ``$lacking[] = $name;``"""
    for at, worth in climbed(condition):
        for holds, branch in zip((True, False), branches(at), strict=True):
            there = (worth.held is not None and is_true(worth.held) is holds) is not missing
            for node in inside(branch):
                kept, value = set_by(node)
                for place in named_behind(kept, function_of(node)) if kept is not None and value is True else ():
                    if place.parent is not None and place.parent.type == "return_statement":
                        return "present" if there else "missing"
    return ""


def _position(call: Node, variable: str) -> int | None:
    """Which parameter of the function around a variable is; None: it is none."""
    function = nearest(call, *_FUNCTIONS)
    return parameter_position(function, variable)


def parameter_position(function: Node | None, variable: str) -> int | None:
    """Which parameter of a function a variable is, from zero; None: none of them."""
    parameters = field(function, "parameters")
    named = children(parameters)
    names = [text(field(one, "name")) for one in named if one.type.endswith("parameter")]
    return names.index(variable) if variable in names else None


def _given_by_methods(place: Node, property_name: str) -> Iterator[tuple[str, int, bool]]:
    """The methods of the class around that give a property what they are given, with which parameter that is.

    Third, whether it is added to what the property holds: ``$this->names[] = $name;``
    """
    kept = re.compile(
        rf"\$this->{re.escape(property_name)}(?P<one>\[\w*\])?\s*=\s*(?:array_merge\(\$this->\w+,\s*)?(?P<of>\$\w+)"
    )
    for method in walked(nearest(place, "class_declaration")):
        if method.type != "method_declaration":
            continue
        name, given = text(field(method, "name")).lower(), kept.search(text(method))
        of = given["of"] if given else f"${property_name}" if name == MADE else ""
        if of and (position := parameter_position(method, of)) is not None:
            yield name, position, given is not None and given["one"] is not None
