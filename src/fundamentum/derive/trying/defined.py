"""The names that a file defines, read off it without parsing."""

import re
from collections.abc import Iterator
from typing import Final

import msgspec

from fundamentum.derive.php_source.word_search import starts_of

FEW_LINES: Final = 900
"""Bytes of a function, or a file that is included, that is gone through whatever it does."""
_TELLS_OF_ERRORS: Final = re.compile(
    r"error|fatal|missing|abort|fail|bail|halt|quit|terminate|(?:^|_)(?:die|exit|stop)", re.I
)
_SOME_LINES: Final = 4000
"""The same of a function that is called after an error, or an end: what it does says how bad it is."""
_FUNCTION: Final = re.compile(rb"function\s++&?\s*+(\w++)\s*+\(")
_CLASSES: Final = tuple(re.compile(rb"%s\s++(\w++)" % kind) for kind in (b"class", b"trait", b"enum", b"interface"))
_CONSTANTS: Final = (
    re.compile(rb"define\s*+\(\s*+['\"](\w++)['\"]"),
    re.compile(rb"const\s++(\w++)\s*+="),
)
_VARIABLE: Final = re.compile(
    rb"\$(\w++)\s*+=\s*+(?=['\"\[\d]|array\s*\(|[\w(, '\"]{0,40}get_loaded_ext)",
)
_OF_NEEDS: Final = re.compile(rb"php|vers|least|min|requir|exten|need|modul")
"""How variables are called that hold what is required."""
_WORD: Final = re.compile(rb"\w")
_HEAD: Final = re.compile(rb"([ \t]*+)(?:[\w ]*\s)?function\s++&?\s*+")
"""What stands on a line in front of the name of a function that is defined there."""
MAX_HEAD: Final = 300
_PARENTHESIS: Final = re.compile(rb"\s*+\(")
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


def defined_in(data: bytes, lowered: bytes) -> Defined:
    """The names that a file defines.  ``lowered``: the same in lower case."""

    def named(pattern: re.Pattern[bytes], text: bytes) -> Iterator[str]:
        for match in pattern.finditer(lowered):
            # Looked at here: a pattern that begins with a letter is found much faster.
            if not _WORD.match(lowered, max(match.start() - 1, 0)) or not match.start():
                yield text[match.start(1) : match.end(1)].decode("latin-1")

    functions = dict.fromkeys(named(_FUNCTION, lowered))
    classes = dict.fromkeys(name for pattern in _CLASSES for name in named(pattern, lowered))
    constants = dict.fromkeys(name for pattern in _CONSTANTS for name in named(pattern, data))
    variables = dict.fromkeys(
        name.decode("latin-1") for name in _VARIABLE.findall(data) if _OF_NEEDS.search(name.lower())
    )
    extends = (
        (name.decode("latin-1").lower(), other.decode("latin-1").rpartition("\\")[2].lower())
        for name, other in (*_EXTENDS.findall(data), *_USES.findall(data))
    )
    return Defined(tuple(functions), tuple(classes), tuple(constants), tuple(variables), tuple(extends))


def worth_going_through(name: str, size: int) -> bool:
    """Whether a function of that name and of so many bytes is gone through whatever it does."""
    return size < (_SOME_LINES if _TELLS_OF_ERRORS.search(name) else FEW_LINES)


def is_long(data: bytes, name: str) -> bool:
    """Whether a function is surely more than a few lines: its last bracket stands below its first word."""
    lowered = data.lower()
    for at in starts_of(lowered, name.encode()):
        begin, end = data.rfind(b"\n", max(at - MAX_HEAD, 0), at) + 1, at + len(name)
        head = _HEAD.fullmatch(lowered, begin, at) if begin or at < MAX_HEAD else None
        if head is None or not _PARENTHESIS.match(data, end):
            continue
        line = data[begin : data.find(b"\n", end)]
        if line.count(b"{") and line.count(b"{") == line.count(b"}"):
            return False
        return not worth_going_through(name, data.find(b"\n%s}" % head[1], end) - begin)
    return False
