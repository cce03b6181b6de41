"""What a place says that hands a result on, where nobody is seen to ask for it: by names, and what stands beside."""

import re
from typing import Any, Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Outcome
from fundamentum.derive.php_source.nodes import (
    called,
    children,
    field,
    function_around,
    heading,
    names_around,
    nearest,
    parent_of,
    string,
    text,
)
from fundamentum.derive.statements.outcomes import COLLECTORS, MISSING, WARNING
from fundamentum.derive.trying.values import Array, Instance, truth

OF_CHECKS: Final = re.compile(
    r"check|requir|support|compat|min(?:imum)?_?(?:php|version)|php_?version|meets|satisf|is_?ok|environment|system|"
    r"install|setup|bootstrap|init|preflight|enableable|diagnos|validate|verify|ensure|upgrade|activat|main|run|test",
    re.I,
)
"""How what is called looks whether a program can run."""
_VIEWS: Final = re.compile(r"render|view|template|twig|display", re.I)
"""How functions are called that show a page with what they are given."""
_LEVEL: Final = re.compile(
    r"(?:['\"](?:is_?)?(?:required|mandatory|fatal|must|blocking|critical)['\"]\s*=>|\b(?:required|mandatory|fatal)\s*:)\s*(true\b|false\b|[01]\b)",
    re.I,
)
"""The level that an entry of a table gives, or an argument."""
_SEVERE: Final = re.compile(
    r"::\w*(?:ERROR|FATAL|CRITICAL|REQUIRED|MANDATORY)\b|=>\s*['\"](?:required|mandatory|fatal|critical)['\"]"
)
_ONE_REQUIREMENT: Final = re.compile(r"requirement|check$|(?:config|environ|system|server|install)\w*tests?$", re.I)
"""Classes that are one requirement, or that have a method for each."""
_FULFILLED: Final = re.compile(r"(?:is|test_|check|pass|fulfil|meet|satisf|met)|evaluate|available", re.I)
_ASIDE: Final = r"(?:\s++|/\*(?:[^*]|\*(?!/))*+\*/|(?://|#)[^\n]*+)*+"
"""Space and comments."""
_OPTIONAL_CLASS: Final = re.compile(
    rf"function\s+\w*(?:mandatory|required|critical|fatal)\w*\s*\([^)]*\)[^{{]*\{{{_ASIDE}(?:return\s|\$\w+\s*=)\s*false|"
    rf"function\s+\w*optional\w*\s*\([^)]*\)[^{{]*\{{{_ASIDE}(?:return\s|\$\w+\s*=)\s*true|"
    r"(?:required|mandatory)\w*\s*=\s*false|optional\w*\s*=\s*true",
    re.I,
)
"""How a class that is one requirement says that it need not be met."""
_REQUIREMENTS_CHECK: Final = re.compile(
    r"prerequisit|requirements?(?:_?(?:ok|met|fulfilled|check))?$|check_?(?:req|env|system|server)|can_?install|preflight|enableable|"
    r"installable",
    re.I,
)
"""How functions are called that answer whether all that is required is there."""
_OF_REQUIREMENTS: Final = re.compile(r"requir|check|prerequisit|depend", re.I)
"""How classes are called of which one is made for each requirement."""
MAX_CLASS: Final = 4000
"""Characters of such a class that are looked at."""
_HOLDING: Final = frozenset({"array_element_initializer", "argument"})
_CLOSURES: Final = frozenset({"anonymous_function", "arrow_function"})


def said_of(place: Node, row: Any, *, version: bool) -> Outcome:
    """What comes of a result that is handed on: an argument, an entry of a table, a property, what a function returns.

    ``row``: what stands beside it in the same table; ``version``: it tells of PHP's version; else of an extension.
    """
    if isinstance(row, Array) and (level := level_in(row)):
        return level
    if place.type == "object_creation_expression":
        return "reports" if _OF_NEEDS.search(text(place)[:80]) else ""
    if place.type == "argument":
        return _handed_to(place)
    if place.type == "array_element_initializer":
        return _level_of(place) or _of_entry(place)
    if place.type in _CLOSURES:
        above = place.parent
        return _of_entry(above) if above is not None and above.type in _HOLDING else ""
    if place.type == "assignment_expression":
        return "reports" if OF_CHECKS.search(" ".join(names_around(place))) else ""
    return _of_function(place, version=version)


def of_list(place: Node) -> Outcome:
    """What comes of a list that has something in it only where something is missing, by what returns it.

    That is a function, or an object by one of its methods.
    """
    if place.type == "object_creation_expression":
        return "reports" if OF_PROBLEMS.search(text(place)[:80]) else ""
    if place.type == "array_element_initializer":  # json_encode(['errors' => $missing])
        key = string(place.named_children[0]) or ""
        return "warns" if WARNING.search(key) else "reports" if COLLECTORS.search(key) else ""
    function = text(field(place, "name"))
    if not function or not OF_PROBLEMS.search(f"{function} {names_around(place)[0]}"):
        return ""
    return "warns" if WARNING.search(function) else "reports"


OF_PROBLEMS: Final = re.compile(
    r"requir|prerequisit|mandator|problem|missing|unmet|violat|err(?:or)?s\b|fail|incompat|check", re.I
)
"""How functions, and their classes, are called that return what is wrong."""
_MUST: Final = re.compile(r"(?:is_?)?(?P<must>required|mandatory|fatal|must|blocking|critical)|(?:is_?)?optional", re.I)
_OF_NEEDS: Final = re.compile(r"req|check|need|ext|modul|depend|environ", re.I)
"""How classes are called of which an object is made for each requirement."""


_LEVEL_KEY: Final = re.compile(r"level|severity|importance|necessity|kind", re.I)
_MUST_BE: Final = re.compile(r"required|mandatory|fatal|critical|blocking|must", re.I)
_NEED_NOT_BE: Final = re.compile(r"recommended|optional|suggested|advised|desirable|nice_?to_?have|warning", re.I)


def _word(value: Any) -> str:
    """A text, or the name of a case of an enumeration."""
    if isinstance(value, Instance) and value.kind.cases and "name" in value.members:
        value = value.members["name"].value
    return value if isinstance(value, str) else ""


def level_in(row: Array) -> Outcome:
    """The level that a row of a table has under a key that is called so."""
    for key, value in row.items.items():
        if isinstance(key, str) and _LEVEL_KEY.fullmatch(key) and (word := _word(value)):
            if _MUST_BE.fullmatch(word):
                return "reports"
            if _NEED_NOT_BE.fullmatch(word):
                return "warns"
        named = _MUST.fullmatch(key) if isinstance(key, str) else None
        told = truth(value) if isinstance(value, (bool, int)) else None
        if named and told is not None:
            return "reports" if told is (named["must"] is not None) else "warns"
    return ""


def _of_function(place: Node, *, version: bool) -> Outcome:
    """What a function is for that returns the result."""
    function = text(field(place, "name"))
    holder = nearest(place, "class_declaration")
    if version:
        return "reports" if OF_CHECKS.search(function) else ""
    if _REQUIREMENTS_CHECK.search(function):
        return "warns" if WARNING.search(function) else "reports"
    if holder is None:
        return ""
    written = text(holder)[:MAX_CLASS]
    if _ONE_REQUIREMENT.search(text(field(holder, "name"))) and _FULFILLED.search(function):
        return "warns" if _OPTIONAL_CLASS.search(written) else "reports"
    bases = [text(node) for node in children(holder) if node.type in ("base_clause", "class_interface_clause")]
    if any(map(_OF_REQUIREMENTS.search, bases)) and MISSING.search(written):
        return "warns" if WARNING.search(written) or _OPTIONAL_CLASS.search(written) else "reports"
    return ""


def _of_entry(element: Node) -> Outcome:
    """What a table is for that has the result in it, and what else stands in the same entry of it."""
    if level := _level_of(element):
        return level
    if WARNING.search(function_around(element)):
        return "warns"
    returned = parent_of(element, 2)
    if returned is not None and returned.type == "return_statement" and not function_around(returned):
        return "reports"  # a file that returns its results
    call = element.parent.parent if element.type == "argument" and element.parent is not None else None
    if (view := parent_of(element, 4)) is not None and _VIEWS.search(called(view)):
        return "reports" if OF_CHECKS.search(f"{text(view)[:80]} {text(element)[:40]}") else ""  # whoever shows it
    return "reports" if OF_CHECKS.search(f"{heading(element)} {text(call)[:40]} {text(element)[:40]}") else ""


def _level_of(element: Node) -> Outcome:
    """The level that the entry of a table gives, in words or as a value."""
    entry = text(element.parent)[:400] if element.parent is not None else ""
    if level := _LEVEL.search(entry):
        return "reports" if level[1].lower() in ("true", "1") else "warns"
    return "reports" if _SEVERE.search(entry) else "warns" if WARNING.search(entry) else ""


def _handed_to(argument: Node) -> Outcome:
    """What a function is for that is given the result: ``addRequirement(extension_loaded('gd'), '...')``."""
    call = parent_of(argument, 2)
    name = called(call)
    if WARNING.search(name):
        return "warns"
    if level := _level_of(argument):
        return level
    return "reports" if OF_CHECKS.search(f"{name} {function_around(argument)} {text(argument)[:40]}") else ""
