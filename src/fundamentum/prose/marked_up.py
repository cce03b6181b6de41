"""Text with elements of HTML in between, and tables that are written as lists, as plain text with as many lines."""

import re
from typing import Final
from urllib.parse import unquote

from fundamentum.lazy_regex import lazy_regex

_PAGE: Final = lazy_regex(r"<(?:html|body)\b", re.I)
_ELEMENTS: Final = lazy_regex(r"<(?:p|li|table|div|h[1-6])\b", re.I)
_TITLED: Final = lazy_regex(r"^#{1,6} \S|^[=~-]{3,}[ \t]*$", re.M)
_ROW: Final = lazy_regex(r"<(/?)tr\b[^<>]{0,200}>", re.I)
_CELL: Final = lazy_regex(r"</t[dh]\s*>", re.I)
_ENTRY: Final = lazy_regex(r"<li\b[^<>]{0,200}>", re.I)
_HEADING: Final = lazy_regex(r"(?:<details\b[^<>]{0,200}>\s{0,20})?<(?:h[1-6]|summary)\b[^<>]{0,200}>", re.I)
_CODE: Final = lazy_regex(
    r"^[ \t]*```[ \t]*(?:(?:php|html?|twig|javascript|js|css|sql|python|java|go|c)\b|\n[ \t]*(?:<\?php|/\*))"
    r"(?:(?!\n[ \t]*```)[\s\S]){0,20000}",
    re.M | re.I,
)
_FIRST_CELL: Final = lazy_regex(r"(\s*)\* - (.*)")
_NEXT_CELL: Final = lazy_regex(r"\s+- (.*)")
_REFERENCE: Final = lazy_regex(r"(?<=[A-Za-z0-9`])_{1,2}(?=[\s,.;:)]|\Z)")
_TARGET: Final = lazy_regex(r"^\.\. _[^:\n]{1,80}:|`_(?!\w)", re.M)
"""What reStructuredText marks a word with that leads elsewhere, and how it says where."""
OF_BADGE: Final = "(badge)"
"""Stands behind what such a picture says: nobody reads it again when something changes."""
_BADGE: Final = lazy_regex(
    r"(?:!\[[^\]\n]{0,80}\]\(|<img\s[^<>]{0,200}?src=[\"'])https?://[^)\s\"'<>]{1,80}/badge/php(?:[-_ ]?version)?-"
    r"(?P<said>[^)\s\"'<>/-]{1,60})-\w+[^)\s\"'<>]{0,100}(?:\)|[\"'][^<>]{0,200}>)",
    re.I,
)
"""A picture whose address says what stands in it: ``badge/PHP-8.1%2B-blue``"""
LOOKED_AT: Final = 20_000
"""Characters at the beginning that tell what a text is."""


def is_page(text: str) -> bool:
    """Whether a text is a page of HTML, rather than one with elements of it in between."""
    start = text[:LOOKED_AT]
    titled, page = _TITLED.search(start), _PAGE.search(start)
    if page and not (titled and titled.start() < page.start()):  # below a title, it is an example
        return True
    return _ELEMENTS.search(start) is not None and not titled


def plain_rows(text: str) -> str:
    """Rows of tables on one line each, entries of lists and headings with the signs that plain text has for them.

    Source code that is shown as an example is left out.
    """
    text = _CODE.sub(lambda block: "\n" * block[0].count("\n"), text)
    if _TARGET.search(text):
        text = _REFERENCE.sub("", text)
    return _without_elements(_without_cells(_BADGE.sub(_badge, text)))


def _badge(match: re.Match[str]) -> str:
    """What stands in a picture, as a sentence."""
    return f"PHP version {unquote(match['said']).replace('_', ' ').replace('|', '/')} {OF_BADGE} "


def _without_cells(text: str) -> str:
    """The rows of tables that reStructuredText writes as lists in lists."""
    if ".. list-table::" not in text:
        return text
    out: list[str] = []
    row = -1
    for line in text.split("\n"):
        first, following = _FIRST_CELL.fullmatch(line), _NEXT_CELL.fullmatch(line)
        if first:
            row = len(out)
            line = f"{first[1]}| {first[2]}"
        elif following and row >= 0:
            out[row] += f" | {following[1]}"
            line = ""
        elif line.strip() and not line.startswith(" "):
            row = -1
        out.append(line)
    return "\n".join(out)


def _without_elements(text: str) -> str:
    if "<" not in text:
        return text
    parts = _ROW.split(text)
    out = [parts[0]]
    for closing, part in zip(parts[1::2], parts[2::2], strict=True):
        out.append(_row(part) if not closing else part)
    return _HEADING.sub("## ", _ENTRY.sub("- ", "".join(out)))


def _row(inside: str) -> str:
    cells = " | ".join(" ".join(cell.split()) for cell in _CELL.split(inside))
    return f"| {cells}" + "\n" * inside.count("\n")
