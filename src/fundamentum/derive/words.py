"""The words that make a file worth parsing, and finding them in raw bytes at the speed of the interpreter's C code."""

import re
from collections.abc import Iterator
from functools import cache
from typing import Final

from fundamentum.catalog import canonical
from fundamentum.catalog.symbols import EVERYWHERE, known_extensions, own_extensions, providers, symbols
from fundamentum.derive.patterns import Replaced
from fundamentum.derive.source import CHECKS
from fundamentum.derive.wishes import CALLS

# Everything that cannot be part of a name becomes a blank.
_TABLE: Final = bytes(byte if chr(byte).isalnum() or byte == 95 or byte >= 128 else 32 for byte in range(256))
# Comments, strings, text outside PHP, text blocks.  Each way begins with a character of its own: that, and no group
# around them, lets the matcher skip at full speed to the next place where one can begin.  Most strings have no escape
# in them; ways without a loop for those come first.  No way ever has to be taken back, hence the ``+`` after each.
_NO_CODE: Final = re.compile(
    rb"""'[^'\\]*+'|"[^"\\]*+"|//[^\n?]*+(?=\n)"""
    rb"""|//[^\n?]*+(?:\?(?!>)[^\n?]*+)*+"""
    rb"""|\#(?!\[)[^\n?]*+(?:\?(?!>)[^\n?]*+)*+"""
    rb"""|/\*[^*]*+\*++(?:[^/*][^*]*+\*++)*+/"""
    rb"""|'[^'\\]*+(?:\\.[^'\\]*+)*+'"""
    rb"""|"[^"\\]*+(?:\\.[^"\\]*+)*+\""""
    rb"""|\?>[^<]*+(?:<(?!\?(?!xml))[^<]*+)*+(?:<\?|\Z)""",
    re.S,
)


@cache
def _without_text() -> Replaced:
    return Replaced(_NO_CODE, b"''")


_BLOCK: Final = re.compile(rb"""<<<[ \t]*(['"]?)(\w+)\1\r?\n""")


TAKES_FUNCTIONS: Final = frozenset(
    "array_map array_filter array_walk array_walk_recursive array_reduce usort uasort uksort call_user_func "
    "call_user_func_array ob_start preg_replace_callback iterator_apply register_shutdown_function array_udiff "
    "array_uintersect array_diff_ukey".split()
)
TAKING: Final = frozenset(name.encode() for name in TAKES_FUNCTIONS)
_GIVEN: Final = re.compile(rb"\s*\([^'\"();]{0,80}['\"](\w+)['\"]")


def code_of(data: bytes) -> bytes:
    """The code in a file, in lower case: no comments, strings, text.  Quick, and right but for the oddest files."""
    start = data.find(b"<?")
    if start < 0:
        return b""
    lowered = data[start + (5 if data[start : start + 5] == b"<?php" else 2) :].lower()
    return _without_text()(_without_blocks(lowered) if b"<<<" in lowered else lowered)


def _without_blocks(lowered: bytes) -> bytes:
    """The text without its text blocks (``<<<END``).  A label that ends nowhere is looked for once only."""
    out: list[bytes] = []
    endless: set[bytes] = set()
    at = 0
    while match := _BLOCK.search(lowered, at):
        label = match[2]
        end = None
        if label not in endless:
            end = re.compile(rb"^[ \t]*" + label + rb"\b", re.M).search(lowered, match.end())
        if end is None:
            endless.add(label)
            out.append(lowered[at : match.end()])
            at = match.end()
        else:
            out += (lowered[at : match.start()], b"''")
            at = end.end()
    return b"".join((*out, lowered[at:]))


@cache
def interesting() -> frozenset[bytes]:
    """Every word, in lower case, that may stand for something an extension provides, a check or a wish."""
    found = {name.encode() for name in (*CHECKS, *CALLS)}
    for kind, name in symbols():
        if kind in ("function", "class", "constant"):
            found.add(_word(name))
    return frozenset(found)


def _word(name: str) -> bytes:
    """The word by which a symbol is met: of a name with a namespace the first part, of a class constant the class."""
    return name.partition("::")[0].partition("\\")[0].lower().encode("latin-1")


@cache
def extensions_of_word() -> dict[bytes, tuple[str, ...]]:
    """Word → the extensions that it may tell of."""
    found: dict[bytes, dict[str, None]] = {}
    for (kind, name), known in symbols().items():
        if kind in ("function", "class", "constant"):
            for symbol in known:
                if symbol.extension not in EVERYWHERE or symbol.extension in ("json", "hash"):
                    found.setdefault(_word(name), {})[symbol.extension] = None
    return {word: tuple(extensions) for word, extensions in found.items()}


@cache
def versioned_words() -> dict[bytes, frozenset[tuple[str, str]]]:
    """Word → the (since, gone) of PHP's own functions and classes, and of constants of its core, that came or went."""
    found: dict[bytes, set[tuple[str, str]]] = {}
    for (kind, name), known in symbols().items():
        for symbol in known if len(known) == 1 else ():
            ours = symbol.extension in EVERYWHERE or (symbol.extension in own_extensions() and kind != "constant")
            if ours and kind in ("function", "class", "constant") and (symbol.since or symbol.gone):
                found.setdefault(_word(name), set()).add((symbol.since, symbol.gone))
    return {word: frozenset(spans) for word, spans in found.items()}


@cache
def _everyday() -> dict[bytes, str]:
    """Words that are also words of everyday language → what they may stand for: *f*unction, *c*lass, name*s*pace."""
    found: dict[bytes, set[str]] = {name.encode(): {"f"} for name in CALLS}
    plain: set[bytes] = set()
    for kind, name in symbols():
        word = _word(name)
        if kind == "class" and "\\" in name:
            found.setdefault(word, set()).add("s")
        elif kind == "class" or (kind == "constant" and "::" in name):
            found.setdefault(word, set()).add("c")
        elif kind == "function" and b"_" not in word.strip(b"_"):
            found.setdefault(word, set()).add("f")
        elif kind in ("function", "constant"):
            plain.add(word)
    return {word: "".join(sorted(kinds)) for word, kinds in found.items() if word not in plain}


@cache
def _spaces() -> dict[bytes, list[bytes]]:
    """First part of a namespace → the classes of extensions in it."""
    found: dict[bytes, list[bytes]] = {}
    for kind, name in symbols():
        if kind == "class" and "\\" in name:
            found.setdefault(_word(name), []).append(name.encode("latin-1"))
    return found


_CALLED: Final = re.compile(rb"\s*\(")
_SCOPED: Final = re.compile(rb"\s*::")
_BEFORE_CLASSES: Final = (b"new", b"extends", b"implements", b"instanceof", b"use", b"catch")
_NAMING: Final = frozenset(byte for byte in range(256) if chr(byte).isalnum() or byte == 95 or byte >= 128)


def _stands_for_symbol(word: bytes, code: bytes, substitutes: bool) -> bool:
    """Whether a word of everyday language stands in code as a symbol does: called, or where a class is named.

    ``substitutes``: defined counts too.  Anybody may call a method so, but not what stands in for a missing function.
    """
    kinds = _everyday()[word]
    if "s" in kinds and any(name in code for name in _spaces()[word]):
        return True
    function, a_class = "f" in kinds, "c" in kinds
    if not function and not a_class:
        return False
    at = code.find(word)
    while at >= 0:
        end = at + len(word)
        before = code[at - 1] if at else 32
        if before not in _NAMING and (end == len(code) or code[end] not in _NAMING):
            called = function and before not in b">:$" and _CALLED.match(code, end)
            if called and (substitutes or not code.endswith(b"function ", 0, at)):
                return True
            if a_class and (before == 92 or (before != 36 and _SCOPED.match(code, end)) or _after_keyword(code, at)):
                return True
        at = code.find(word, end)
    return False


def _after_keyword(code: bytes, at: int) -> bool:
    """Whether what stands before is a word after which a class is named."""
    before = code[max(at - 40, 0) : at]
    rest = before.rstrip(b" \t\r\n(")
    return len(rest) < len(before) and rest.endswith(_BEFORE_CLASSES)


def words_in(code: bytes, of: frozenset[bytes]) -> frozenset[bytes]:
    """Which of the words stand in the code."""
    everyday = _everyday()
    found = of.intersection(code.translate(_TABLE).split())
    substitutes = b"function_exists" in found
    return frozenset(word for word in found if word not in everyday or _stands_for_symbol(word, code, substitutes))


def called_by_name(lowered: bytes, words: frozenset[bytes]) -> Iterator[tuple[int, int]]:
    """Where the name of a function stands in a string that is given to one of the ``words`` which call it."""
    for word in words & TAKING:
        at = lowered.find(word)
        while at >= 0:
            at += len(word)
            if match := _GIVEN.match(lowered, at):
                yield match.span(1)
            at = lowered.find(word, at)


INCLUDING: Final = frozenset({b"include", b"include_once", b"require", b"require_once"})
_INCLUDED: Final = re.compile(rb"[^;\n]{0,200}")
_PARTS: Final = re.compile(rb"[^/'\"\s.()$]+")


def included_in(data: bytes) -> frozenset[bytes]:
    """The parts of the paths that a file includes."""
    found: set[bytes] = set()
    for word in (b"include", b"require"):
        at = data.find(word)
        while at >= 0:
            at += len(word)
            if match := _INCLUDED.match(data, at):
                found.update(_PARTS.findall(match[0]))
            at = data.find(word, at)
    return frozenset(found)


_DEFINED: Final = re.compile(rb"function (\w+)\(")


def defines_one(code: bytes, words: frozenset[bytes]) -> bool:
    """Whether the code seems to define a function, no method, that an extension provides too."""
    for match in _DEFINED.finditer(code):
        if match[1] in words and providers("function", match[1].decode("latin-1")):
            before = code[max(match.start() - 12, 0) : match.start()].split()
            if not before or before[-1] not in (b"public", b"private", b"protected", b"static", b"abstract", b"final"):
                return True
    return False


_LISTED: Final = re.compile(rb"['\"](?:ext-)?([A-Za-z][\w -]{1,20})['\"]")


def listed_in(data: bytes) -> frozenset[str]:
    """Names of extensions that stand in quotes."""
    return frozenset(canonical(name.decode("latin-1")) for name in set(_LISTED.findall(data))) & known_extensions()


_ASKED: Final = re.compile(rb"\s*\(\s*(?:\[\s*|array\s*\(\s*)?(?:['\"]\\?([\w\\: -]+)['\"]|\\?([\w\\]+)::class|\$)")


def checked_in(lowered: bytes, words: frozenset[bytes]) -> frozenset[str]:
    """The extensions that a file asks for, by the words of its checks; ``?`` where the name stands in a variable."""
    found: set[str] = set()
    for name, kind in CHECKS.items():
        word = name.encode()
        if word not in words:
            continue
        at = lowered.find(word)
        while at >= 0:
            at += len(word)
            if match := _ASKED.match(lowered, at):
                value = (match[1] or match[2] or b"").decode("latin-1")
                if not value:
                    found |= {"?"} if kind == "extension" else set()
                elif kind == "extension":
                    found.add(canonical(value))
                else:
                    found.update(_providers_in_lower_case().get(value.partition("::")[0].replace("\\\\", "\\"), ()))
            at = lowered.find(word, at)
    return frozenset(found)


@cache
def _providers_in_lower_case() -> dict[str, frozenset[str]]:
    """Functions, classes and constants, all in lower case, → the extensions that provide them."""
    found: dict[str, set[str]] = {}
    for (kind, name), known in symbols().items():
        if kind in ("function", "class", "constant"):
            found.setdefault(name.lower(), set()).update(symbol.extension for symbol in known)
    return {name: frozenset(extensions) for name, extensions in found.items()}
