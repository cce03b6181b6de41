"""Where a file asks what a server has, and in which functions: the ways into a program that are worth going."""

import re
from collections.abc import Collection
from typing import Final

import msgspec

from fundamentum.catalog.symbols import span_in_php
from fundamentum.derive.php_source.bare_code import all_words
from fundamentum.derive.php_source.imports import full_name, import_statements, imports_in
from fundamentum.derive.php_source.quoted import of_extension
from fundamentum.derive.php_source.source import CHECKS
from fundamentum.derive.php_source.word_search import first_word, matching, places_where, starts_of
from fundamentum.derive.statements.wishes import COMMANDS
from fundamentum.derive.trying.beneath import ASKED_FOR
from fundamentum.derive.trying.defined import Defined, defined_in
from fundamentum.derive.trying.directories import ASKING
from fundamentum.derive.trying.usual_settings import SETTINGS
from fundamentum.derive.trying.written_places import WRITING

_ALWAYS_WORDS: Final = tuple(
    b"extension_loaded get_loaded_extensions getavailabledrivers pdo_drivers phpversion get_extension_funcs "
    b"reflectionextension php_version php_version_id php_major_version disable_functions".split()
)
_ALWAYS: Final = re.compile(rb"\b(?:%s)\b" % b"|".join(_ALWAYS_WORDS))
_BENEATH_WORDS: Final = tuple(sorted(name.lower().encode() for name in ASKED_FOR))
_BENEATH: Final = re.compile(rb"\b(?:%s)\b" % b"|".join(_BENEATH_WORDS))
_LARGEST: Final = re.compile(
    rb"(?:(?:2147483647|0x7fffffff)\s{0,9}[=!<>]{1,3}\s{0,9})\\?\bphp_int_max\b|"
    rb"\bphp_int_max\s{0,9}[=!<>]{1,3}\s{0,9}(?:2147483647|0x7fffffff)"
)
"""The largest whole number, held against that of 32 bits: elsewhere it means none at all."""
_NAMED_WORDS: Final = tuple(b"function_exists is_callable class_exists interface_exists method_exists defined".split())
_NAMED: Final = re.compile(
    rb"\b(?P<asks>%s)\s*\(\s*(?:\[\s*)?"
    rb"(?:['\"]\\*(?P<name>[\w\\: -]+)['\"]|(?P<variable>\$)|\\?(?P<kind>[\w\\]+)::class)" % b"|".join(_NAMED_WORDS),
    re.I,
)
_SETTING: Final = re.compile(rb"\b(?:ini_get|get_cfg_var)\s*\(\s*(?:['\"](?P<name>[\w.]+)|\$|self|static|[A-Z])", re.I)


def _any_of(names: Collection[str]) -> bytes:
    return b"|".join(name.encode() for name in sorted(names))


_WRITES: Final = re.compile(rb"(?<!function )\b(?:%s)(?=\s*\(|['\"])" % _any_of(ASKING))
_STARTS: Final = re.compile(
    rb"(?<![\w>:$])(?<!function )(?:%s)\s*+\(\s*+"
    rb"(?:['\"]\s*+(?:which|command|type|whereis)\b|['\"][^'\"$]{1,80}['\"]\s*+,\s*+\$|(?!['\"])(?=[^;]{0,80}?[$:]))|"
    rb"(?<![\w>:$])is_executable\s*+\(|`\s*+(?:which|command|type|whereis)\s" % _any_of(COMMANDS)
)
"""What starts a program that is not named right there, or looks for one or how it ended."""

_PUTS: Final = re.compile(
    rb"(?<![\w>:$])(?<!function )(?:%s)\s*+\((?!\s*+(?:__dir__\s*+\.\s*+)?['\"][^'\"$]*+['\"]\s*+[,)])"
    % _any_of(WRITING)
)
"""What writes to a file or directory whose path is not written out as a whole right there."""

_WRITING: Final = tuple(name.encode() for name in sorted(ASKING))
_PUTTING: Final = tuple(name.encode() for name in sorted(WRITING))
_STARTING: Final = (b"is_executable", b"`", *(name.encode() for name in sorted(COMMANDS)))
_WORDS: Final = tuple(
    b"extension phpversion php_version php_major drivers _exists is_callable defined ini_get get_cfg_var "
    b"disable_functions _version sqlite3::version imagick::getversion gd_info imagetypes php_zts "
    b"thread_safe php_int_".split()
)
"""Without one of these a file asks nothing."""


class Looked(msgspec.Struct, frozen=True, array_like=True):
    """What a quick look at a file tells."""

    defined: Defined
    asks: tuple[int, ...]
    """Bytes where it asks something of the server."""
    later: tuple[int, ...] = ()
    """Bytes where it asks whether it may write to a directory, or starts a program that is not named right there."""


def looked_at(data: bytes, _: object = None) -> Looked:
    """A quick look at one file."""
    lowered = data.lower()
    later = (
        *places_where(_WRITES, _WRITING, lowered),
        *places_where(_STARTS, _STARTING, lowered),
        *places_where(_PUTS, _PUTTING, lowered),
    )
    return Looked(defined_in(data, lowered), tuple(sorted(asking_places(data, lowered))), tuple(sorted(later)))


def asking_places(data: bytes, lowered: bytes) -> set[int]:
    """Bytes of a file where it asks what a server has.  ``lowered``: the same in lower case."""
    if not any(word in lowered for word in _WORDS):
        return set()
    places = {match.start() for match in matching(_ALWAYS, _ALWAYS_WORDS, lowered)}
    places |= {match.start() for match in matching(_BENEATH, _BENEATH_WORDS, lowered)}
    if b"php_int_max" in lowered:
        places |= {match.start() for match in _LARGEST.finditer(lowered)}
    imports: dict[str, str] | None = None
    for match in matching(_NAMED, _NAMED_WORDS, lowered, data):
        kind = CHECKS[match["asks"].decode().lower()]
        name = (match["name"] or match["kind"] or b"").decode("latin-1")
        if match["kind"]:
            imports = imports_in(data) if imports is None else imports
            name = full_name(name, imports)
        if (match["variable"] and kind != "constant") or (name and _depends(kind, name)):
            places.add(match.start())
    for match in matching(_SETTING, (b"ini_get", b"get_cfg_var"), lowered, data):
        if not match["name"] or match["name"].decode() in SETTINGS:
            places.add(match.start())
    return places


def _depends(kind: str, name: str) -> bool:
    """Whether it depends on the server, its extensions or its version, if it has something of that name."""
    return of_extension(kind, name) or any(span_in_php(kind, name.lstrip("\\")) or ())  # type: ignore[arg-type]


def mentions(data: bytes, names: tuple[bytes, ...]) -> list[tuple[int, bytes]]:
    """Where functions, or files that are included, are named in a file: bytes and names in lower case."""
    lowered = data.lower()
    words = all_words(lowered) | {b""}
    there = {name: name for name in names if first_word(name) in words and name in lowered}
    if not there:
        return []
    for statement in import_statements(lowered):
        there |= {other: name for name, other in _OTHERWISE.findall(statement) if name in there}
    return [
        (at, name)
        for other, name in there.items()
        for at in starts_of(lowered, other)
        if _NAMED_BEFORE.match(lowered, at) and _NAMED_BEHIND.match(lowered, at + len(other))
    ]


_NAMED_BEFORE: Final = re.compile(rb"(?<!function )(?<!class )(?<![\w$])")
_NAMED_BEHIND: Final = re.compile(rb"['\"]|\s*+(?:\(|::|[);&|?=!,])|\s++(?:\$|as\b)")
"""What stands in front of a name, and behind it, where it is used."""
_OTHERWISE: Final = re.compile(rb"(?<!\w)(\w++)\s++as\s++(\w++)\s*+(?=[,}]|\Z)")
"""An import under another name: ``use Nightlog\\Checks\\Extension as Needed;``"""
