"""What a class keeps in its properties, as far as its own code says so: objects of which class, or what is written."""

import re
from typing import Final

from fundamentum.derive.trying.parts import Part

MAX_CLASS: Final = 60_000
"""Characters of a class that are looked at."""
_NAME: Final = r"\??(\\?[A-Za-z_][\w\\]*)"
_PLAIN: Final = frozenset(
    "array bool callable false float int iterable mixed null object self static string true void".split()
)


def class_of_property(holder: Part, name: str) -> str:
    """The name of a class in lower case, without its namespace; empty: the class does not say which.

    By the type of the property (``private Checker $checker``, also as a parameter of the constructor), what it is
    given (``$this->checker = new Checker``), or the type of the parameter that it is given.
    """
    written = holder.text[:MAX_CLASS]
    own = re.escape(name)
    for pattern in (
        rf"\b(?:public|protected|private|readonly|var)\s+(?:static\s+|readonly\s+)*{_NAME}\s+\${own}\b",
        rf"\$this->{own}\s*=\s*(?:\$\w+\s*\?\?\s*)?new\s+{_NAME}",
    ):
        if (found := re.search(pattern, written)) is not None and found[1].lower() not in _PLAIN:
            return _short(found[1])
    if (given := re.search(rf"\$this->{own}\s*=\s*\$(\w+)\s*;", written)) is not None:
        typed = re.search(rf"[(,]\s*{_NAME}\s+\${given[1]}\b", written)
        return _short(typed[1]) if typed is not None and typed[1].lower() not in _PLAIN else ""
    return ""


_WRITTEN: Final = frozenset({"array_creation_expression", "string", "encapsed_string", "integer", "boolean"})


def given_in(constructor: Part, name: str) -> Part | None:
    """What a constructor gives a property, if that is written there: ``$this->needed = ['intl', 'gd'];``"""
    body = constructor.get("body")
    for line in body.kids if body is not None else ():
        given = line.kids[0] if line.type == "expression_statement" and line.kids else None
        if given is None or given.type != "assignment_expression":
            continue
        left, right = given.get("left"), given.get("right")
        if left is not None and left.text == f"$this->{name}" and right is not None and right.type in _WRITTEN:
            return right
    return None


def _short(name: str) -> str:
    return name.rpartition("\\")[2].lower()
