"""The places in a source file that may tell something, found by patterns before the file is parsed."""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.catalog.symbols import providers
from fundamentum.derive.php_source.name_beginnings import begun_in
from fundamentum.derive.php_source.quoted import (
    DRIVER,
    DRIVER_NAME,
    LISTED,
    called_by_name,
    extension_called,
    listed_in,
    speaks_of_extensions,
)
from fundamentum.derive.reading.words import interesting

NAMED_IN_VARIABLE: Final = re.compile(rb"=\s*['\"]([a-z_]\w+)['\"]\s*;")
"""What may be the name of a function, and is given to a variable."""
CALLED_VARIABLE: Final = re.compile(rb"\$\w++\s*+\(")
NAMED_CLASS: Final = re.compile(rb"(\$\w+)\s*=\s*(?:['\"]\\{0,2}([a-z_][\w\\]*)['\"]|\\?([a-z_][\w\\]*)::class)\s*;")
"""The same of a class."""
CALLS_METHOD: Final = re.compile(
    rb"(?:call_user_func(?:_array)?|fromcallable)\s*\(\s*(?:\[|array\s*\()\s*['\"]\\{0,2}\w+['\"]\s*,|::\Z"
)
"""How the name of a class is given to what calls a method of it."""
MADE_VARIABLE: Final = re.compile(rb"\bnew\s+\$\w|\$\w+::")
_DEFINE: Final = re.compile(rb"define\s*\(\s*['\"]([a-z]\w+)['\"]")
_SCHEME: Final = re.compile(
    rb"""["'](?P<at>compress\.zlib|compress\.bzip2|zip|phar|ssh2\.\w+|zlib|(?:ssl|tls)(?=://)|sslv3|tlsv1\.\d)(?:://|:(?=/))"""
)
_SCHEME_SIGNS: Final = (b"zlib:", b"bzip2:", b"zip:/", b"phar:/", b"ssh2.", b"ssl:/", b"sslv3:/", b"tls:/", b"tlsv1.")
_FILTER_SIGNS: Final = (b"zlib.inflate", b"zlib.deflate", b"bzip2.", b"convert.iconv.", b"mcrypt.")
_FILTER: Final = re.compile(rb"""["'](?P<at>zlib\.(?:in|de)flate|bzip2\.(?:de)?compress|convert\.iconv\.|mcrypt\.)""")
_OF_STREAMS: Final = {
    "compress.zlib": "zlib",
    "compress.bzip2": "bz2",
    "bzip2": "bz2",
    "convert": "iconv",
    **dict.fromkeys(("ssl", "tls", "sslv3", "tlsv1"), "openssl"),
}
_OF_VERSIONS: Final = re.compile(rb"PHP_VERSION|PHP_MAJOR_VERSION|version_compare")
_INCLUDE: Final = re.compile(rb"\b(?:require|include)(?:_once)?\b[^;]{0,300}?['\"/]([\w.-]+\.php)['\"]", re.I)


class Spots:
    """Places, as (start, end) in bytes or as matches of the pattern that found them."""

    def __init__(self, data: bytes, lowered: bytes, words: frozenset[bytes]) -> None:
        self.words = sorted(place for word in words & interesting() for place in places_of(lowered, word))
        """Where an interesting word stands."""
        self.called_by_name = list(called_by_name(lowered, words))
        """Names of functions in quotes that are given to a function that calls them."""
        self.variables = [
            m for m in NAMED_IN_VARIABLE.finditer(lowered) if providers("function", m[1].decode("latin-1"))
        ]
        """The same, given to a variable."""
        self.begun = list(begun_in(lowered))
        """Names of functions that are put together, and called."""
        self.classes = list(NAMED_CLASS.finditer(lowered)) if MADE_VARIABLE.search(lowered) else []
        """Names of classes that are given to a variable."""
        self.constants = [
            match
            for match in _DEFINE.finditer(lowered)
            if providers("constant", data[match.start(1) : match.end(1)].decode("latin-1"))
        ]
        """Definitions of constants that an extension has too."""
        connects = b"pdo" in lowered
        self.connections = list(DRIVER.finditer(lowered)) if connects or b"dsn" in lowered else []
        self.databases = list(DRIVER_NAME.finditer(lowered)) if connects else []
        """Names of kinds of databases in quotes."""
        self.streams = list(streams_in(lowered))
        """Stream wrappers and stream filters: where, which of the two, the extension, the name."""
        lists = speaks_of_extensions(lowered) and bool(listed_in(data))
        self.extensions = [m for m in LISTED.finditer(data) if extension_called(m[1])] if lists else []
        """Names of extensions in quotes."""
        versioned = _OF_VERSIONS.search(data) is not None
        self.includes = list(_INCLUDE.finditer(data)) if versioned else []
        """Files that are included, where the version of PHP is spoken of."""


def streams_in(lowered: bytes) -> Iterator[tuple[int, str, str, str]]:
    """Stream wrappers and filters that are named in strings: where, which of the two, the extension, the name."""
    if any(sign in lowered for sign in _SCHEME_SIGNS):
        for match in _SCHEME.finditer(lowered):
            name = match["at"].decode()
            first = name.split(".")[0]
            yield match.start("at"), "scheme", _OF_STREAMS.get(name) or _OF_STREAMS.get(first, first), name
    if any(sign in lowered for sign in _FILTER_SIGNS) and b"filter" in lowered:
        for match in _FILTER.finditer(lowered):
            name = match["at"].decode()
            first = name.split(".")[0]
            yield match.start("at"), "filter", _OF_STREAMS.get(first, first), name


def places_of(lowered: bytes, word: bytes) -> Iterator[tuple[int, int]]:
    """Where a word stands as a whole, and is neither a variable nor a member of an object."""
    at = lowered.find(word)
    while at >= 0:
        end = at + len(word)
        before = lowered[at - 1 : at]
        if not (before.isalnum() or before in (b"_", b"$") or before >= b"\x80") and lowered[at - 2 : at] != b"->":
            after = lowered[end : end + 1]
            if not (after.isalnum() or after == b"_" or after >= b"\x80"):
                yield at, end
        at = lowered.find(word, end)
