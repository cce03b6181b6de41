"""Libraries beneath PHP and what extensions were built with: *ICU 60+*, *libcurl >= 7.61*, *GD with WebP support*."""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.catalog.libraries import tables
from fundamentum.prose.line import Line
from fundamentum.prose.statement import LATER, VERSION, Statement, level_of

_WORDS: Final = {
    "icu": r"(?:lib)?icu(?: library)?",
    "libcurl": r"(?:lib|ext-)?curl(?: library)?",
    "openssl": r"OpenSSL(?: library)?",
    "libxml": r"libxml2?(?: library)?",
    "libzip": r"libzip",
    "pcre": r"PCRE2?(?: library)?",
    "libsodium": r"libsodium",
    "oniguruma": r"oniguruma",
    "zlib": r"zlib library",
}


def read(line: Line) -> Iterator[Statement]:
    """The libraries that a line names with a version, and features of an extension it names."""
    level = level_of(line)
    for name, shape in _WORDS.items():
        match = re.search(
            rf"(?<![\w-])(?:{shape})[\s:(]*(?:>=|≥|at least|version|v|minimum)*\s*{VERSION}({LATER})?", line.text, re.I
        )
        if match and "extension" not in match[0].lower() and not _chosen(line.text, match):
            yield Statement(("libraries", level), f"{name} >= {match[1]}", level=level)
    for extension, features in tables().features.items():
        if not re.search(rf"(?<![\w-])(?:php-)?{extension}2?(?![\w-])", line.text, re.I):
            continue
        for feature in features:
            named = re.search(rf"(?<![\w-]){feature}(?:2)?(?:[- ]support)?(?![\w-])", line.text, re.I)
            if named and re.search(r"\bsupport|with\b|compiled|built|enabled|format", line.text, re.I):
                yield Statement(("features", level, extension), feature, level=level)


def _chosen(text: str, match: re.Match[str]) -> bool:
    """Whether it is one of several: *cURL 7.29 or sockets*."""
    before, behind = text[: match.start()], text[match.end() :]
    return re.search(r"(?:\bor|[|/])\s*$", before) is not None or re.match(r"\)?\s*(?:or\b|[|/])", behind) is not None
