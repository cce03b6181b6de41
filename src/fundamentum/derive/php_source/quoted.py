"""What the strings of a source file name: extensions, functions, files to include, databases to connect to."""

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Final

from fundamentum.catalog import canonical
from fundamentum.catalog.symbols import EVERYWHERE, known_extensions, providers
from fundamentum.derive.families import SWITCHED_OFF
from fundamentum.derive.php_source.imports import full_name, imports_in
from fundamentum.derive.php_source.source import CHECKS

TAKING: Final = frozenset(
    b"array_map array_filter array_walk array_walk_recursive array_reduce usort uasort uksort call_user_func "
    b"call_user_func_array ob_start preg_replace_callback iterator_apply register_shutdown_function array_udiff "
    b"array_uintersect array_diff_ukey fromcallable".split()
)
_GIVEN: Final = re.compile(
    rb"\s*\((?:\s*(?:\[\s*|array\s*\(\s*)?|[^'\"();\[]{0,80},\s*|\s*['\"][^'\"\n]{0,80}['\"]\s*,\s*)['\"]\\{0,2}(\w+)(?:::\w+)?['\"]"
)
"""A name that is given alone, or as the class of a method: neither a part of a name, nor that of a method."""


def called_by_name(lowered: bytes, words: frozenset[bytes]) -> Iterator[tuple[int, int]]:
    """Where the name of a function, or of a class, stands in a string that is given to one of the ``words``.

    These call what they are given: ``array_map('mb_strtolower', ...)``, ``call_user_func(['Collator', 'create'])``.
    """
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
    spans: set[bytes] = set()
    for word in (b"include", b"require"):
        at = data.find(word)
        while at >= 0:
            at += len(word)
            if match := _INCLUDED.match(data, at):
                spans.update(_PARTS.findall(match[0]))
            at = data.find(word, at)
    return frozenset(spans)


LISTED: Final = re.compile(rb"['\"](?:ext-)?([A-Za-z][\w -]{1,20})['\"]")


def speaks_of_extensions(lowered: bytes) -> bool:
    """Whether a file, in lower case, speaks of extensions or requirements at all."""
    return any(word in lowered for word in _OF_EXTENSIONS)


_OF_EXTENSIONS: Final = tuple(
    b"extension requirement phplib php_lib phpext php_ext phpmod php_mod 'ext' \"ext\" 'ext- \"ext-".split()
)


def listed_in(data: bytes) -> frozenset[str]:
    """Names of extensions that stand in quotes."""
    return frozenset(filter(None, map(extension_called, set(LISTED.findall(data)))))


@lru_cache(4096)
def extension_called(name: bytes) -> str:
    """The extension of that name, in whatever spelling; empty: there is none."""
    spelt = canonical(name.decode("latin-1").removeprefix("ext-"))
    return spelt if spelt in known_extensions() else ""


_ASKED: Final = re.compile(rb"\s*\(\s*(?:\[\s*|array\s*\(\s*)?(?:['\"]\\?([\w\\: -]+)['\"]|\\?([\w\\]+)::class|\$)")


def asks(data: bytes, lowered: bytes, words: frozenset[bytes]) -> bool:
    """Whether a file may ask for an extension, by the words of its checks."""
    if b"extension_loaded" in words:
        return True
    imports: dict[str, str] | None = None
    for name, kind in CHECKS.items():
        word = name.encode()
        at = lowered.find(word) if word in words else -1
        while at >= 0:
            at += len(word)
            if match := _ASKED.match(lowered, at):
                group = match.lastindex or 0
                if not group and kind != "constant":
                    return True  # the name stands in a variable
                # Constants are told apart by case, all others are not.
                named = data[match.start(group) : match.end(group)].decode("latin-1") if group else ""
                if group == 2:
                    imports = imports_in(data) if imports is None else imports
                    named = full_name(named, imports)
                if group and of_extension(kind, named):
                    return True
            at = lowered.find(word, at)
    return False


def apart_once(kind: str, value: str) -> tuple[str, ...]:
    """The extension of a function or class, of those that every current PHP has and older ones may lack."""
    if kind not in ("function", "class"):
        return ()
    return tuple(name for name, own in _OF_THOSE_APART_ONCE.items() if own.fullmatch(value))


_OF_THOSE_APART_ONCE: Final = {
    "json": re.compile(r"json_\w+|JsonSerializable|JsonException", re.I),
    "hash": re.compile(r"hash|hash_\w+", re.I),
}


def of_extension(kind: str, value: str) -> bool:
    """Whether a function, class or constant of that name comes with an extension that not every PHP has.

    Or it is a function that hosts switch off.
    """
    if kind == "extension":
        return bool(extension_called(value.encode("latin-1", "replace")))
    if kind == "function" and value.lower() in SWITCHED_OFF:
        return True
    value = value.replace("\\\\", "\\")
    if apart_once(kind, value.lstrip("\\")):
        return True
    symbols = providers(kind, value) or providers("class", value.partition("::")[0])  # type: ignore[arg-type]
    return any(symbol.extension not in EVERYWHERE for symbol in symbols)


_DRIVERS: Final = rb"mysql|pgsql|sqlite|oci|dblib|sqlsrv|odbc|firebird|ibm|informix"
DRIVER: Final = re.compile(
    rb"""["'](?P<at>%s):(?=["'/$:{]|[a-z_ ]+=|%%s|(?<=sqlite:)[\w.~-])|["'](?P<name>pdo_(?:%s))["']"""
    % (_DRIVERS, _DRIVERS)
)
"""The beginning of what names a database to connect to, or the extension for it; in lower case."""
DRIVER_NAME: Final = re.compile(rb"""["'](%s)["']""" % _DRIVERS)


def drivers_in(lowered: bytes, *, connects: bool) -> frozenset[str]:
    """The extensions for connections to databases that strings speak of.

    ``connects``: the file makes connections, and so the bare name of a kind of database counts.
    """
    drivers = {match["at"] or match["name"].removeprefix(b"pdo_") for match in DRIVER.finditer(lowered)}
    if connects:
        drivers.update(DRIVER_NAME.findall(lowered))
    return frozenset(f"pdo_{driver.decode()}" for driver in drivers)
