"""Programs: *the command unzip was not found*, *Composer and Git must be installed*, *ffmpeg 4.2 or later*."""

import re
from collections.abc import Iterator
from functools import cache
from typing import Final

from fundamentum.catalog.suppliers import suppliers
from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import ASKING, GD_OR_MAGICK, LATER, VERSION, Statement, level_of

_ALSO: Final = frozenset("git unzip composer ffmpeg wkhtmltopdf tar gzip curl wget rsync zip bzip2 npm make".split())
_CALLED: Final = {"imagemagick": "magick | convert", "ghostscript": "gs", "libreoffice": "libreoffice | soffice"}
"""Programs that are called otherwise than what they belong to."""
_EVERYDAY: Final = frozenset(
    "find compare host top dot convert import make zip curl latex java node ps ssh scp sftp".split()
)
"""Programs that are words of everyday's language, or names of something else, too."""
_TO_DO: Final = lazy_regex(r"\bto\s+\Z", re.I)
"""What stands before a verb, where no program is meant: *needed to make thumbnails*."""
_NOT_MEANT: Final = frozenset({"mysql", "mariadb", "redis-server"})
"""Names of servers, of which other readers tell."""
_CONTEXT: Final = lazy_regex(
    r"\b(?:commands?|programs?|binar(?:y|ies)|executables?|tools?|utilit(?:y|ies)|command[- ]line|PATH|"
    r"/usr/(?:local/)?bin)\b"
)
_COMPLAINING: Final = lazy_regex(r"\bcomposer (?:detected|dependencies)\b", re.I)
"""What a program says of itself where it is there."""
_INSTALLED: Final = lazy_regex(
    r"\b(?:install(?:ed)?|not found|missing|required?s?|needs?|available|optional(?:ly)?|recommended)\b", re.I
)


def read(line: Line) -> Iterator[Statement]:
    """The programs that a line names where it is about programs, or a name that is nothing else."""
    level = level_of(line)
    under = re.search(r"\b(?:tools|programs|binaries|commands)\b", line.heading, re.I)
    about = _CONTEXT.search(line.text) is not None or under is not None
    if (re.search(r"\bextensions?\b", line.text, re.I) and not about) or _COMPLAINING.search(line.text):
        return
    asked = line.listed and ASKING.search(line.heading) is not None
    magick = False
    for match in _names().finditer(line.text):
        name, rest = match[1].lower(), line.text[match.end() :]
        named = about or f"({match[1]})" in line.text
        named = named or (asked and name not in _EVERYDAY and not line.text[: match.start()].strip("\"'`* "))
        told = match[2] is not None and name not in _EVERYDAY
        if (name in _EVERYDAY and not named) or not (named or told or _INSTALLED.search(line.text)):
            continue
        if name in _EVERYDAY and _TO_DO.search(line.text, 0, match.start()):
            continue
        if name == "convert" and magick:
            continue  # which is told by the other name, too
        if name == "imagemagick" and GD_OR_MAGICK.search(line.text):
            continue  # two extensions of which one will do
        if name in _NOT_MEANT or re.match(r"\s*(?:PHP )?(?:extension|module)", rest, re.I):
            continue
        if name in _CALLED and (itself := re.match(r"[\"'`*]*\s*\(([\w-]+)\)", rest)) and _names().match(itself[1]):
            continue
        magick = magick or name == "imagemagick"
        name = _CALLED.get(name, name)
        entry = f"{name} >= {match[2]}" if match[2] and "." in match[2] else name
        yield Statement(("commands", level), entry, level=level)


@cache
def _names() -> re.Pattern[str]:
    names = sorted({*suppliers().commands, *_ALSO, *_CALLED}, key=len, reverse=True)
    either = "|".join(map(re.escape, names))
    version = rf"(?:\s*(?:>=|≥|version|v)?\s*{VERSION}({LATER})?)?"
    return re.compile(rf"(?<![\w.$-])(?:/usr/(?:local/)?bin/)?({either})(?![\w(]|[-.]\w)[\"'`]?{version}", re.I)
