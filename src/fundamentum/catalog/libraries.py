"""Libraries beneath PHP's extensions, what extensions may be built with, and how PHP itself tells of both.

What a PHP tells of these is kept under the names of the needs that ask for it: ``library:icu`` to ``72.1``,
``feature:gd:webp`` to ``1``, ``extension:redis`` to ``5.3.7``.
"""

import re
import tomllib
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Final

import msgspec

from fundamentum.catalog import canonical
from fundamentum.lazy_regex import lazy_regex

_VERSION: Final = lazy_regex(r"\d+(?:\.\d+)*")


class Library(msgspec.Struct, frozen=True):
    """One library."""

    packages: str
    """A regular expression that its packages' names fit."""
    soname: str
    extension: str
    """The extension that is built on it, and shows its version."""
    says: str
    """PHP's expression for its version."""
    row: str


class Feature(msgspec.Struct, frozen=True):
    """One thing that an extension may have been built with."""

    says: str
    """PHP's expression for whether it was."""
    signs: tuple[str, ...] = ()
    """Texts in the extension's file of which one is there if it was; none: the file does not tell."""
    row: str = ""
    packages: str = ""
    """A regular expression that fits the packages of what it takes, as Debian names them; empty: they do not tell."""


class Tables(msgspec.Struct, frozen=True):
    """The catalogue's file."""

    own_versions: dict[str, dict[str, str]]
    """Parts of PHP whose version is not PHP's, each with its version by branch."""
    libraries: dict[str, Library]
    features: dict[str, dict[str, Feature]]


@cache
def tables() -> Tables:
    """All that is known, read once."""
    return msgspec.convert(tomllib.loads(Path(__file__).with_name("libraries.toml").read_text("utf-8")), Tables)


@cache
def told_by_php() -> str:
    """A PHP expression whose value is an array of all that PHP tells of itself, for PHP 7 and later."""
    asked = [(f"library:{name}", library.extension, library.says) for name, library in tables().libraries.items()]
    asked += [
        (f"feature:{extension}:{name}", extension, f"({feature.says}) ? '1' : '0'")
        for extension, features in tables().features.items()
        for name, feature in features.items()
    ]
    lines = [f"'{key}' => extension_loaded('{extension}') ? {says} : null," for key, extension, says in asked]
    versions = "array_combine(preg_filter('/^/', 'extension:', $names), array_map('phpversion', $names))"
    return (
        "call_user_func(function () {\n"
        "    $names = array_map('strtolower', get_loaded_extensions());\n"
        f"    return array_filter({versions} + array(\n        "
        + "\n        ".join(lines)
        + "\n    ), 'is_string');\n})"
    )


def of_page(module: str, label: str, value: str) -> Iterator[tuple[str, str]]:
    """What a row of the information page tells, with the need it tells of."""
    of = canonical(module)
    for name, library in tables().libraries.items():
        if library.extension == of and library.row == label and (match := _VERSION.search(value)):
            yield f"library:{name}", match[0]
    for name, feature in tables().features.get(of, {}).items():
        if feature.row == label:
            yield f"feature:{of}:{name}", "1" if value.lower() in ("enabled", "yes") else "0"
    if re.fullmatch(rf"(?:{re.escape(of)} )?(?:module |extension )?version", label.lower()) and value[:1].isdigit():
        yield f"extension:{of}", value
