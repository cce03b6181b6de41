"""What a program may ask of what lies beneath it: versions of libraries and extensions, and how PHP was built."""

import re
from collections.abc import Callable, Mapping
from typing import Any, Final, NamedTuple

from fundamentum.catalog.libraries import tables
from fundamentum.derive.php_source.scalars import MAX_NUMBER
from fundamentum.derive.trying.values import UNKNOWN, Array

Digits = tuple[int, ...]
"""A version, as numbers from the left to the right."""


class Told(NamedTuple):
    """One thing that tells the version of a library."""

    library: str
    extension: str
    """Without this one it is not there; empty: every PHP has it."""
    written: Callable[[Digits], Any]
    """What it is where the library has a version."""


def dotted(version: Digits) -> str:
    """``(2, 9, 4)`` → ``2.9.4``"""
    return ".".join(map(str, version))


def _of_libxml(version: Digits) -> int:
    return version[0] * 10000 + version[1] * 100 + version[2]


def _of_openssl(version: Digits) -> int:
    """As its header has it: before 3.0 with a last digit that says whether it is a release."""
    major, minor, last = version[:3]
    return major << 28 | minor << 20 | (last << 4 if major > 2 else last << 12 | 0xF)


def _of_curl(version: Digits) -> int:
    return version[0] << 16 | version[1] << 8 | version[2]


def _curl_version(version: Digits) -> Array:
    return Array({"version": dotted(version), "version_number": _of_curl(version)}, loose=True)


def _sqlite_version(version: Digits) -> Array:
    number = version[0] * 1_000_000 + version[1] * 1000 + version[2]
    return Array({"versionString": dotted(version), "versionNumber": number})


def _gd_info(version: Digits) -> Array:
    return Array({"GD Version": dotted(version)}, loose=True)


def _imagick_version(version: Digits) -> Array:
    return Array({"versionString": f"ImageMagick {dotted(version)}-43 Q16 x86_64"}, loose=True)


TELLING: Final[Mapping[str, Told]] = {
    "INTL_ICU_VERSION": Told("icu", "intl", dotted),
    "LIBXML_DOTTED_VERSION": Told("libxml", "", dotted),
    "LIBXML_VERSION": Told("libxml", "", _of_libxml),
    "LIBXML_LOADED_VERSION": Told("libxml", "", lambda version: str(_of_libxml(version))),
    "OPENSSL_VERSION_NUMBER": Told("openssl", "openssl", _of_openssl),
    "OPENSSL_VERSION_TEXT": Told("openssl", "openssl", lambda version: f"OpenSSL {dotted(version)} 1 Jul 2025"),
    "PCRE_VERSION": Told("pcre", "", lambda version: f"{dotted(version[:2])} 2025-08-27"),
    "SODIUM_LIBRARY_VERSION": Told("libsodium", "sodium", dotted),
    "GD_VERSION": Told("libgd", "gd", dotted),
    "GMP_VERSION": Told("gmp", "gmp", dotted),
    "ZLIB_VERSION": Told("zlib", "zlib", dotted),
    "MB_ONIGURUMA_VERSION": Told("oniguruma", "mbstring", dotted),
    "curl_version": Told("libcurl", "curl", _curl_version),
    "gd_info": Told("libgd", "gd", _gd_info),
    "imagick::getversion": Told("imagemagick", "imagick", _imagick_version),
    "sqlite3::version": Told("sqlite", "sqlite3", _sqlite_version),
    "ziparchive::LIBZIP_VERSION": Told("libzip", "zip", dotted),
}
"""PHP's constants, functions and static methods that tell the version of a library; classes in lower case."""
_NUMBERED: Final[Mapping[str, Callable[[int], Digits]]] = {
    "libxml": lambda number: (number // 10000, number // 100 % 100, number % 100),
    "openssl": lambda number: (
        (number >> 28, number >> 20 & 0xFF, number >> 4 & 0xFFFF if number >> 28 > 2 else number >> 12 & 0xFF)
    ),
    "libcurl": lambda number: (number >> 16, number >> 8 & 0xFF, number & 0xFF),
    "sqlite": lambda number: (number // 1_000_000, number // 1000 % 1000, number % 1000),
}
"""The version for which a number stands."""
NEWEST: Final[Mapping[str, Digits]] = {
    "icu": (76, 1, 0), "libxml": (2, 14, 5), "openssl": (3, 5, 0), "pcre": (10, 46, 0), "libsodium": (1, 0, 20),
    "libgd": (2, 3, 3), "gmp": (6, 3, 0), "zlib": (1, 3, 1), "oniguruma": (6, 9, 10), "libcurl": (8, 15, 0),
    "sqlite": (3, 50, 4), "libzip": (1, 11, 4), "imagemagick": (7, 1, 1),
}  # fmt: skip
"""Versions of today."""
OF_EXTENSION: Final = (999, 0)
"""The version of an extension that is there."""
BITS: Final = "build:bits"
THREADS: Final = "build:thread_safe"
_BUILT: Final[Mapping[str, tuple[str, Any, Any]]] = {
    "PHP_INT_SIZE": (BITS, 8, 4),
    "PHP_INT_MAX": (BITS, MAX_NUMBER - 1, 2**31 - 1),
    "PHP_ZTS": (THREADS, 0, 1),
    "ZEND_THREAD_SAFE": (THREADS, False, True),
}
"""Constants by which PHP tells how it was built: what is asked for, as usual, and otherwise."""
_TYPES: Final[Mapping[str, int]] = {
    "gif": 1, "jpeg": 2, "png": 4, "xpm": 16, "webp": 32, "bmp": 64, "avif": 256
}  # fmt: skip
"""The bits of ``imagetypes()``, by what gd is built with."""
_ALWAYS_TYPES: Final = 8 | 128
CONSTANTS: Final[Mapping[str, int]] = {"IMG_JPG": 2, **{f"IMG_{name.upper()}": bit for name, bit in _TYPES.items()}}
"""Constants that such an answer is held against."""
ASKED_FOR: Final = (_BUILT.keys() | TELLING.keys() | {"imagetypes"}) - {"PHP_INT_MAX"}
"""What asks for something beneath PHP wherever it stands."""
OTHERWISE: Final = "otherwise"
LIBRARY: Final = "library:"
FEATURE: Final = "feature:"
EXTENSION: Final = "extension:"

Tells = Callable[[str], str | None]
"""Remembers that something is asked for, and gives the value that it has on this server; None: as on most."""


_OF_ONE_FUNCTION: Final = re.compile(r"function_exists\('(\w+)'\)")
OF_FEATURES: Final[Mapping[str, str]] = {
    **{
        match[1]: f"{FEATURE}{extension}:{name}"
        for extension, features in tables().features.items()
        for name, feature in features.items()
        if (match := _OF_ONE_FUNCTION.fullmatch(feature.says))
    },
    **{f"imagecreatefrom{name}": f"{FEATURE}gd:{name}" for name in ("jpeg", "png", "gif", "webp", "avif", "bmp")},
    **dict.fromkeys(("imageftbbox", "imagefttext", "imagettfbbox"), f"{FEATURE}gd:freetype"),
}
"""Functions that are there only if their extension was built with something."""


def _rows(tells: Tells) -> dict[str, bool]:
    """What ``gd_info`` says of what the extension was built with."""
    features = tables().features["gd"]
    return {feature.row: tells(f"{FEATURE}gd:{name}") is None for name, feature in features.items()}


def of_php(name: str, there: Callable[[str], bool], tells: Tells) -> Any:
    """What a constant, a function or a static method tells; ``NotImplemented``: nothing of what lies beneath.

    ``there``: whether the server has an extension.
    """
    if built := _BUILT.get(name):
        return built[1] if tells(built[0]) is None else built[2]
    if name == "imagetypes":
        lacks = (tells(f"{FEATURE}gd:{feature}") is not None for feature in _TYPES)
        bits = (0 if lacking else bit for lacking, bit in zip(lacks, _TYPES.values(), strict=True))
        return _ALWAYS_TYPES | sum(bits) if there("gd") else UNKNOWN
    told = TELLING.get(name)
    if told is None:
        return CONSTANTS.get(name, NotImplemented)
    if told.extension and not there(told.extension):
        return UNKNOWN
    value = tells(f"{LIBRARY}{told.library}")
    written = told.written(NEWEST[told.library] if value is None else of_text(value))
    return Array({**written.items, **_rows(tells)}, loose=True) if name == "gd_info" else written


def of_text(text: str) -> Digits:
    """The three numbers of a version: ``50.1`` → (50, 1, 0)"""
    numbers = [int(part) for part in text.split(".")]
    return tuple((*numbers, 0, 0, 0)[: max(3, len(numbers))])


def written_out(name: str, literal: str) -> str | None:
    """The version that something written out in a program may stand for: ``'50.1'``, ``0x1000100f``; else None."""
    if match := _DOTTED.fullmatch(literal):
        return match[1]
    number_of = _NUMBERED.get(name.removeprefix(LIBRARY))
    if number_of is None or not _NUMBER.fullmatch(literal):
        return None
    version = number_of(int(literal.replace("_", ""), 0))
    return dotted(version) if version[0] else None


_DOTTED: Final = re.compile(r"['\"]?(\d{1,4}(?:\.\d{1,4}){0,3})(?:-?(?:dev|alpha|beta|rc)\d{0,2})?['\"]?", re.I)
_NUMBER: Final = re.compile(r"0x[0-9a-f_]{4,10}|[1-9][\d_]{4,9}", re.I)


def before(version: str) -> str:
    """A version that comes before another, and after most that do."""
    digits = list(of_text(version))
    at = max((place for place, digit in enumerate(digits) if digit), default=0)
    digits[at] = max(digits[at] - 1, 0)
    digits[at + 1 :] = [99] * (len(digits) - at - 1)
    return dotted(tuple(digits))
