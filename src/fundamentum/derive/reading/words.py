"""The words that make a file worth parsing, and finding them in its code."""

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from typing import Final, NamedTuple

from fundamentum.catalog.symbols import APART_ONCE, EVERYWHERE, follows_php, providers, symbols
from fundamentum.derive.php_source.bare_code import NAMING
from fundamentum.derive.php_source.imports import import_statements
from fundamentum.derive.php_source.source import CHECKS, provided
from fundamentum.derive.statements import asking_calls, version_gates
from fundamentum.derive.statements.wishes import CALLS


class _Tables(NamedTuple):
    """Words, in lower case, and what they may stand for."""

    extensions: Mapping[bytes, frozenset[str]]
    """The extensions that a word, or a name with its namespace, may tell of; none for what every PHP has."""
    versions: Mapping[bytes, frozenset[tuple[str, str]]]
    """(since, gone) of PHP's own functions and classes, and of constants of its core, that came or went."""
    everyday: Mapping[bytes, frozenset[str]]
    """Of words that are also words of everyday language: ``function``, ``class``, ``namespace``."""
    spaces: Mapping[bytes, Sequence[bytes]]
    """First part of a namespace → what extensions provide in it."""


@cache
def _tables() -> _Tables:
    extensions: dict[bytes, set[str]] = {}
    versions: dict[bytes, set[tuple[str, str]]] = {}
    everyday: dict[bytes, set[str]] = {name.encode(): {"function"} for name in CALLS}
    spaces: dict[bytes, list[bytes]] = {}
    plain: set[bytes] = set()
    for (kind, name), known in symbols().items():
        if kind not in ("function", "class", "constant"):
            continue
        word = _word(name)
        full = name.lower().encode("latin-1")
        spaced = b"\\" in full
        told = extensions.setdefault(full if spaced else word, set())
        for symbol in known:
            if symbol.extension not in EVERYWHERE or symbol.extension in APART_ONCE:
                told.add(symbol.extension)
        first = known[0]
        if len(known) == 1 and follows_php(first) and (first.since or first.gone):
            versions.setdefault(word, set()).add((first.since, first.gone))
        if spaced:
            everyday.setdefault(word, set()).add("namespace")
            spaces.setdefault(word, []).append(full)
        elif kind == "class":
            everyday.setdefault(word, set()).add("class")
        elif kind == "function" and b"_" not in word.strip(b"_"):
            everyday.setdefault(word, set()).add("function")
        else:
            plain.add(word)
    return _Tables(
        {word: frozenset(told) for word, told in extensions.items()},
        {word: frozenset(spans) for word, spans in versions.items()},
        {word: frozenset(kinds) for word, kinds in everyday.items() if word not in plain},
        spaces,
    )


def _word(name: str) -> bytes:
    """The word by which a symbol is met: of a name with a namespace the first part, of a class's constant the last."""
    return name.rpartition("::")[2].partition("\\")[0].lower().encode("latin-1")


@cache
def interesting() -> frozenset[bytes]:
    """Every word, in lower case, that may stand for something an extension provides, a check or a wish."""
    tables = _tables()
    return frozenset(name.encode() for name in (*CHECKS, *CALLS)) | tables.extensions.keys() | tables.spaces.keys()


def extensions_of(words: frozenset[bytes]) -> frozenset[str]:
    """The extensions that the words may tell of."""
    table = _tables().extensions
    return frozenset(extension for word in words if word in table for extension in table[word])


def telling_names(words: frozenset[bytes]) -> frozenset[bytes]:
    """Those of the words that are called as functions and classes are which ask for an extension, or for a version."""
    return asking_calls.ASKING.among(words) | version_gates.ASKING.among(words)


def versioned_words() -> Mapping[bytes, frozenset[tuple[str, str]]]:
    """Word → the (since, gone) of PHP's own functions and classes, and of constants of its core, that came or went."""
    return _tables().versions


_CALLED: Final = re.compile(rb"\s*\(")
_SCOPED: Final = re.compile(rb"\s*::")
_DEFINING: Final = (b"class ", b"interface ")
_NAMESPACE: Final = re.compile(rb"\bnamespace [\w\\]++ ?[;{]")
_BEFORE_CLASSES: Final = (b"new", b"extends", b"implements", b"instanceof", b"use", b"catch")


def _stands_for_symbol(word: bytes, code: bytes, substitutes: bool) -> bool:
    """Whether a word of everyday language stands in code as a symbol does: called, or where a class is named.

    ``substitutes``: defined counts too.  Anybody may call a method so, but not what stands in for a missing function.
    """
    kinds = _tables().everyday[word]
    function, a_class = "function" in kinds, "class" in kinds
    if not function and not a_class:
        return False
    at = code.find(word)
    while at >= 0:
        end = at + len(word)
        before = code[at - 1] if at else 32
        if before not in NAMING and (end == len(code) or code[end] not in NAMING):
            called = function and before not in b">:$" and _CALLED.match(code, end)
            if called and (substitutes or not code.endswith(b"function ", 0, at)):
                return True
            if a_class and (before == 92 or (before != 36 and _SCOPED.match(code, end)) or _after_keyword(code, at)):
                return True
            if a_class and code.endswith(_DEFINING, 0, at) and not _NAMESPACE.search(code):
                return True
        at = code.find(word, end)
    return False


def _after_keyword(code: bytes, at: int) -> bool:
    """Whether what stands before is a word after which a class is named."""
    before = code[max(at - 40, 0) : at]
    rest = before.rstrip(b" \t\r\n(")
    return len(rest) < len(before) and rest.endswith(_BEFORE_CLASSES)


def brings(kind: str, short: str, full: str) -> bool:
    """Whether an import gives a short name to something of an extension's, or to a namespace that one provides in."""
    if provided(kind, full):
        return "\\" in full or short != full.lower()
    inside = f"{full.lower()}\\".encode("latin-1", "replace")
    return any(name.startswith(inside) for name in _tables().spaces.get(inside.partition(b"\\")[0], ()))


def _imported(name: bytes, imports: bytes, there: frozenset[bytes]) -> bool:
    """Whether a namespace that a name is in is imported, and what follows it stands in code: ``use Ds\\{Map, Set};``"""
    space, _, last = name.rpartition(b"\\")
    if last not in there or not imports:
        return False
    parts = space.split(b"\\")
    spaces = (b"\\".join(parts[:number]) for number in range(1, len(parts) + 1))
    return any(b"use " + begin + begun + sign in imports for begun in spaces for begin in _BEGIN for sign in _IMPORTING)


_BEGIN: Final = (b"", b"\\", b"function ")
_IMPORTING: Final = (b"\\{", b"\\ {", b";", b" as ")
"""What stands before and behind a namespace that is imported, or of which several names are."""


def _spaced(word: bytes, code: bytes, there: frozenset[bytes]) -> Iterator[bytes]:
    """What extensions provide in a namespace that begins with a word, as far as it stands in code."""
    imports = b";".join([*import_statements(code), b""])
    for name in _tables().spaces.get(word, ()):
        if name not in code and _imported(name, imports, there):
            yield name
            continue
        at = code.find(name)
        while at >= 0:
            before = code[max(at - 2, 0) : at]
            if before[-1:] == b"\\":
                before = before[:-1]
            if not before or before[-1] not in NAMING:
                yield name
                break
            at = code.find(name, at + 1)


def words_in(code: bytes, there: frozenset[bytes], of: frozenset[bytes]) -> frozenset[bytes]:
    """Which words stand in the code, of all that do (``there``); of namespaces of extensions, what is in them."""
    tables = _tables()
    common = of & there
    substitutes = b"function_exists" in common
    out = set()
    for word in common:
        if word not in tables.everyday or _stands_for_symbol(word, code, substitutes):
            out.add(word)
        if word in tables.spaces and word + b"\\" in code and (names := list(_spaced(word, code, there))):
            out.update((word, *names))
    return frozenset(out)


_DEFINED: Final = re.compile(rb"function (\w+)\(")
_DEFINED_CLASS: Final = re.compile(rb"\b(?:class|interface) (\w+)")


def defines_one(code: bytes, words: frozenset[bytes]) -> bool:
    """Whether the code seems to define a class, or a function, no method, that an extension provides too."""
    classes = (match[1] for match in _DEFINED_CLASS.finditer(code) if match[1] in words)
    if any(providers("class", name.decode("latin-1")) for name in classes) and not _NAMESPACE.search(code):
        return True
    for match in _DEFINED.finditer(code):
        if match[1] in words and providers("function", match[1].decode("latin-1")):
            before = code[max(match.start() - 12, 0) : match.start()].split()
            if not before or before[-1] not in (b"public", b"private", b"protected", b"static", b"abstract", b"final"):
                return True
    return False
