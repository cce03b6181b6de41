"""The words that make a file worth parsing, and finding them in raw bytes at the speed of the interpreter's C code."""

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cache, lru_cache
from typing import Final, NamedTuple

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


def code_of(data: bytes, blocks: bool = True) -> bytes:
    """The code in a file, in lower case: no comments, strings, text.  Quick, and right but for the oddest files.

    ``blocks``: whether it may hold blocks of text (``<<<END``).
    """
    start = data.find(b"<?")
    if start < 0:
        return b""
    lowered = data[start + (5 if data[start : start + 5] == b"<?php" else 2) :].lower()
    return _without_text()(_without_blocks(lowered) if blocks and b"<<<" in lowered else lowered)


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
    own = own_extensions()
    for (kind, name), known in symbols().items():
        if kind not in ("function", "class", "constant"):
            continue
        word = _word(name)
        full = name.lower().encode("latin-1")
        spaced = b"\\" in full
        told = extensions.setdefault(full if spaced else word, set())
        for symbol in known:
            if symbol.extension not in EVERYWHERE or symbol.extension in ("json", "hash"):
                told.add(symbol.extension)
        first = known[0]
        ours = first.extension in EVERYWHERE or (first.extension in own and kind != "constant")
        if len(known) == 1 and ours and (first.since or first.gone):
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


def versioned_words() -> Mapping[bytes, frozenset[tuple[str, str]]]:
    """Word → the (since, gone) of PHP's own functions and classes, and of constants of its core, that came or went."""
    return _tables().versions


_CALLED: Final = re.compile(rb"\s*\(")
_SCOPED: Final = re.compile(rb"\s*::")
_BEFORE_CLASSES: Final = (b"new", b"extends", b"implements", b"instanceof", b"use", b"catch")
_NAMING: Final = frozenset(byte for byte in range(256) if chr(byte).isalnum() or byte == 95 or byte >= 128)


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


def _spaced(word: bytes, code: bytes) -> Iterator[bytes]:
    """What extensions provide in a namespace that begins with a word, as far as it stands in code."""
    for name in _tables().spaces.get(word, ()):
        at = code.find(name)
        while at >= 0:
            before = code[max(at - 2, 0) : at]
            if before[-1:] == b"\\":
                before = before[:-1]
            if not before or before[-1] not in _NAMING:
                yield name
                break
            at = code.find(name, at + 1)


def words_in(code: bytes, of: frozenset[bytes]) -> frozenset[bytes]:
    """Which of the words stand in the code; with what extensions provide in a namespace, in full."""
    tables = _tables()
    found = of.intersection(code.translate(_TABLE).split())
    substitutes = b"function_exists" in found
    out = set()
    for word in found:
        if word not in tables.everyday or _stands_for_symbol(word, code, substitutes):
            out.add(word)
        if word in tables.spaces and word + b"\\" in code and (names := list(_spaced(word, code))):
            out.update((word, *names))
    return frozenset(out)


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
    return frozenset(filter(None, map(extension_called, set(_LISTED.findall(data)))))


@lru_cache(4096)
def extension_called(name: bytes) -> str:
    """The extension of that name, in whatever spelling; empty: there is none."""
    spelt = canonical(name.decode("latin-1").removeprefix("ext-"))
    return spelt if spelt in known_extensions() else ""


_ASKED: Final = re.compile(rb"\s*\(\s*(?:\[\s*|array\s*\(\s*)?(?:['\"]\\?([\w\\: -]+)['\"]|\\?([\w\\]+)::class|\$)")


STOPS: Final = "!"
"""Before the name of an extension: the program may stop where it is missing."""
_ENDING: Final = (b"exit", b"die", b"e_user_error")


def checked_in(data: bytes, lowered: bytes, words: frozenset[bytes]) -> frozenset[str]:
    """The extensions that a file asks for, by the words of its checks; ``?`` where the name stands in a variable.

    Once more with ``STOPS`` where an end of the program stands in the next thousand bytes.
    """
    found: set[str] = set()
    for name, kind in CHECKS.items():
        word = name.encode()
        if word not in words:
            continue
        at = lowered.find(word)
        while at >= 0:
            at += len(word)
            if match := _ASKED.match(lowered, at):
                # Constants are told apart by case, all others are not.
                group = match.lastindex or 0
                asked = _asked(kind, data[match.start(group) : match.end(group)].decode("latin-1") if group else "")
                found |= asked
                if any(lowered.find(end, at, at + 1000) >= 0 for end in _ENDING):
                    found.update(STOPS + extension for extension in asked)
            at = lowered.find(word, at)
    return frozenset(found)


def _asked(kind: str, value: str) -> set[str]:
    """The extensions that a check asks for by the name of an extension, a function, a class or a constant."""
    if not value:
        return {"?"} if kind == "extension" else set()
    if kind == "extension":
        return {canonical(value)}
    value = value.replace("\\\\", "\\")
    found = providers(kind, value) or providers("class", value.partition("::")[0])  # type: ignore[arg-type]
    return {symbol.extension for symbol in found}


_DRIVERS: Final = rb"mysql|pgsql|sqlite|oci|dblib|sqlsrv|odbc|firebird|ibm|informix"
DRIVER: Final = re.compile(
    rb"""["'](?P<at>%s):(?=["'/$:{]|[a-z_ ]+=|%%s)|["'](?P<name>pdo_(?:%s))["']""" % (_DRIVERS, _DRIVERS)
)
"""The beginning of what names a database to connect to, or the extension for it; in lower case."""
DRIVER_NAME: Final = re.compile(rb"""["'](%s)["']""" % _DRIVERS)


def drivers_in(lowered: bytes, *, connects: bool) -> frozenset[str]:
    """The extensions for connections to databases that strings speak of.

    ``connects``: the file makes connections, and so the bare name of a kind of database counts.
    """
    found = {match["at"] or match["name"].removeprefix(b"pdo_") for match in DRIVER.finditer(lowered)}
    if connects:
        found.update(DRIVER_NAME.findall(lowered))
    return frozenset(f"pdo_{driver.decode()}" for driver in found)
