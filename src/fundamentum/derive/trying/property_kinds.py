"""What a class keeps in its properties, as far as its own code says so: objects of which class, or what is written."""

import re
from typing import TYPE_CHECKING, Final

if TYPE_CHECKING:
    from fundamentum.derive.trying.parts import Part

MAX_CLASS: Final = 60_000
"""Characters of a class that are looked at."""
_NAME: Final = r"\??(\\?[A-Za-z_][\w\\]*)"
_TYPED: Final = re.compile(
    rf"\b(?:public|protected|private|readonly|var)\s+(?:(?:static|readonly)\s+){{0,2}}{_NAME}\s+\$(\w+)"
)
_MADE: Final = re.compile(rf"\$this->(\w+)\s*=\s*(?:\$\w+\s*\?\?\s*)?new\s+{_NAME}")
_GIVEN: Final = re.compile(r"\$this->(\w+)\s*=\s*\$(\w+)\s*;")
_PARAMETER: Final = re.compile(rf"[(,]\s*{_NAME}\s+\$(\w+)")
_PLAIN: Final = frozenset(
    "array bool callable false float int iterable mixed null object self static string true void".split()
)


def classes_of_properties(written: str) -> dict[str, str]:
    """Property → the name of the class of its objects, in lower case and without its namespace.

    By the type of the property (``private Checker $checker``, also as a parameter of the constructor), what it is
    given (``$this->checker = new Checker``), or the type of the parameter that it is given.  ``written``: the class.
    """
    written = written[:MAX_CLASS]
    parameters: dict[str, str] = {}
    for named, parameter in _PARAMETER.findall(written):
        parameters.setdefault(parameter, named)
    told = [(name, named) for named, name in _TYPED.findall(written)] + _MADE.findall(written)
    told += [(name, parameters.get(parameter, "")) for name, parameter in _GIVEN.findall(written)]
    classes: dict[str, str] = {}
    for name, named in told:
        if named and named.lower() not in _PLAIN:
            classes.setdefault(name, named.rpartition("\\")[2].lower())
    return classes


_WRITTEN: Final = frozenset({"array_creation_expression", "string", "encapsed_string", "integer", "boolean"})


def _with_defaults(right: "Part") -> bool:
    """Whether it is a table of the program's own and what is given beside it: ``['bin' => 'convert'] + $options``."""
    if right.type == "binary_expression":
        sides = (right.get("left"), right.get("right"))
        return right.sign == "+" and any(side is not None and side.type in _WRITTEN for side in sides)
    function = right.get("function") if right.type == "function_call_expression" else None
    return function is not None and function.text.lstrip("\\").lower() in ("array_merge", "array_replace")


def given_in(constructor: "Part", name: str) -> "Part | None":
    """What a constructor gives a property, if that is written there: ``$this->needed = ['intl', 'gd'];``"""
    body = constructor.get("body")
    for line in body.kids if body is not None else ():
        given = line.kids[0] if line.type == "expression_statement" and line.kids else None
        if given is None or given.type != "assignment_expression":
            continue
        left, right = given.get("left"), given.get("right")
        if left is None or right is None or left.text != f"$this->{name}":
            continue
        if right.type in _WRITTEN or _with_defaults(right):
            return right
    return None
