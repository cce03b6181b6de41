"""Which PHP is advised, beside the least that will do: *PHP 8.1 or later (8.3 recommended)*, *we recommend PHP 8.3*."""

import re
from collections.abc import Iterator
from functools import cache
from typing import Final

from fundamentum.catalog.services import services
from fundamentum.catalog.words import said
from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import LATER, VERSION, Statement

_OTHER_TONGUES: Final = r"empfohlen|recommandée?|recomendad[ao]"
_ADVISED: Final = rf"\b(?:recommended|preferred|advised|suggested|{_OTHER_TONGUES})\b"
_ADVICE: Final = (
    rf"\b(?:recommend(?:ed|s|ation)?|prefer(?:red|ably)?|ideally|advised?|suggest(?:ed)?|{_OTHER_TONGUES})\b"
)
_SOFT: Final = lazy_regex(_ADVICE, re.I)
_BRANCH: Final = lazy_regex(r"[5-9]\.\d{1,2}")
_OR_LATER: Final = lazy_regex(LATER, re.I)
_NUMBER: Final = lazy_regex(VERSION)
_COLUMNS: Final = lazy_regex(rf"\b(minim(?:um|al)|required)\b|({_ADVICE})", re.I)


def read(line: Line) -> Iterator[Statement]:
    """The branch of PHP that is advised."""
    if (advised := preferred(line)) is not None:
        yield Statement(("php",), advised[0], "preferred", "recommended")


def preferred(line: Line) -> tuple[str, str] | None:
    """The branch that a line advises, ``8.3+`` if later ones are as good; and the line without its advice."""
    text = line.text
    if not _SOFT.search(text):
        return _in_column(line)
    for shape in _shapes():
        for match in shape.finditer(text):
            start, end = match.span("advice")
            if branch := _branch(match["version"], text[match.end("version") :]):
                return branch, f"{text[:start]}{text[end:]}"
    return None


def _branch(version: str, behind: str) -> str:
    """As a needs file writes it; empty if it is none."""
    branch = ".".join(version.split(".")[:2])
    return f"{branch}{'+' if _OR_LATER.match(behind) else ''}" if _BRANCH.fullmatch(branch) else ""


def _in_column(line: Line) -> tuple[str, str] | None:
    """What stands below a heading, or in a column, that says so: ``PHP 8.1 8.3`` below *Minimum* and *Recommended*."""
    versions = list(_NUMBER.finditer(line.text))
    columns = [bool(match[2]) for match in _COLUMNS.finditer(line.heading.rpartition(": ")[2])]
    if not versions or True not in columns or not re.match(r"PHP\b", line.text):
        return None
    if len(columns) == 1:
        at = 0
    elif len(columns) == len(versions) == 2:
        at = columns.index(True)
    else:
        return None
    start, end = versions[at].span()
    if len(columns) == 1:
        end = len(line.text)
    branch = _branch(versions[at][1], line.text[versions[at].end() :])
    return (branch, f"{line.text[:start]}{line.text[end:]}") if branch else None


@cache
def _shapes() -> tuple[re.Pattern[str], ...]:
    """A version behind PHP, with nothing between them that has versions of its own, and advised; before, or behind."""
    products = "|".join(map(re.escape, [*said("web_servers"), *services()]))
    other = rf"\b(?:extensions?|modules?|librar(?:y|ies)|drivers?|ext-|pecl|{products}|\w*sql\w*|mariadb)"
    near = rf"\bPHP(?![\w-])(?:(?!{other})[^;])" + "{0,60}?"
    version = VERSION.replace("(", "(?P<version>", 1)
    behind = rf"(?P<advice>{version}{LATER}?[\s,(–—-]*(?:is |are )?(?:the )?(?:strongly |highly )?{_ADVISED})"
    behind += r"(?!\s?[:=]?\s?(?:PHP )?(?:>=|≥)?\s?\d)"  # else what is advised comes after the word
    before = (
        rf"(?P<advice>{_ADVICE}(?:(?!{other})[^.;\d])"
        "{0,30}?"
        rf"(?:(?:>=|≥|v)\s*)?(?<![.\d])(?:PHP\s?)?{version}(?!\d){LATER}?)"
    )
    named = rf"(?P<advice>{_ADVICE}[^.,;\d]" + "{0,30}?" + r"\bPHP\b[^.;\d]" + "{0,30}?" + rf"{version}{LATER}?)"
    return tuple(re.compile(shape, re.I) for shape in (near + behind, near + before, named))
