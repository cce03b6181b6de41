"""The names that a file defines, read off it without parsing."""

import re
from typing import Final

import msgspec

FEW_LINES: Final = 900
"""Bytes of a function, or a file that is included, that is gone through whatever it does."""
_TELLS_OF_ERRORS: Final = re.compile(
    r"error|fatal|missing|abort|fail|bail|halt|quit|terminate|(?:^|_)(?:die|exit|stop)", re.I
)
_SOME_LINES: Final = 4000
"""The same of a function that is called after an error, or an end: what it does says how bad it is."""
_DEFINES: Final = re.compile(
    rb"\bfunction\s++&?\s*+(?P<function>\w++)\s*+\(|\b(?:class|trait|enum|interface)\s++(?P<class>\w++)|"
    rb"\bdefine\s*+\(\s*+['\"](?P<constant>\w++)['\"]|\bconst\s++(?P<plain>\w++)\s*+=|"
    rb"\$(?P<variable>\w*(?:php|vers|least|min|requir|exten|need|modul)\w*+)\s*+=\s*+(?=['\"\[\d]|array\s*\(|[\w(, '\"]{0,40}get_loaded_ext)",
    re.I,
)
"""What a file defines, functions and classes wherever they stand, and variables that are called after requirements."""
_EXTENDS: Final = re.compile(rb"\bclass\s++(\w++)\s++extends\s++([\w\\]++)", re.I)
_USES: Final = re.compile(rb"\bclass\s++(\w++)[^{};]{0,200}\{\s*+use\s++([\w\\]++)", re.I)


class Defined(msgspec.Struct, frozen=True, array_like=True):
    """What one file defines, in lower case; constants as written."""

    functions: tuple[str, ...] = ()
    classes: tuple[str, ...] = ()
    constants: tuple[str, ...] = ()
    variables: tuple[str, ...] = ()
    """Variables that are called after requirements, and are given something plain."""
    extends: tuple[tuple[str, str], ...] = ()
    """Class and the one that it extends, or the trait that it uses."""


def defined_in(data: bytes) -> Defined:
    """The names that a file defines."""
    functions: dict[str, None] = {}
    classes: dict[str, None] = {}
    constants: dict[str, None] = {}
    variables: dict[str, None] = {}
    for match in _DEFINES.finditer(data):
        kind = match.lastgroup
        name = match[kind].decode("latin-1") if kind else ""
        if kind == "function":
            functions[name.lower()] = None
        elif kind == "class":
            classes[name.lower()] = None
        elif kind == "variable":
            variables[name] = None
        else:
            constants[name] = None
    extends = (
        (one.decode("latin-1").lower(), other.decode("latin-1").rpartition("\\")[2].lower())
        for one, other in (*_EXTENDS.findall(data), *_USES.findall(data))
    )
    return Defined(tuple(functions), tuple(classes), tuple(constants), tuple(variables), tuple(extends))


def worth_going_through(name: str, size: int) -> bool:
    """Whether a function of that name and of so many bytes is gone through whatever it does."""
    return size < (_SOME_LINES if _TELLS_OF_ERRORS.search(name) else FEW_LINES)


def is_long(data: bytes, name: str) -> bool:
    """Whether a function is surely more than a few lines: its last bracket stands below its first word."""
    match = re.search(rb"^([ \t]*)(?:[\w ]*\s)?function\s+&?\s*%s\s*\(" % re.escape(name.encode()), data, re.I | re.M)
    if match is None:
        return False
    line = data[match.start() : data.find(b"\n", match.end())]
    if line.count(b"{") and line.count(b"{") == line.count(b"}"):
        return False
    end = data.find(b"\n%s}" % match[1], match.end())
    return not worth_going_through(name, end - match.start(1))
