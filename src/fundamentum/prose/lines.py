"""A text as lines, each a sentence, an entry of a list or a row of a table, with the heading above it."""

import re
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.marked_up import is_page, plain_rows
from fundamentum.prose.page_text import of_page
from fundamentum.prose.plain_text import MAX_LINES, of_text
from fundamentum.prose.tables import rows_told

_BRACES: Final = lazy_regex(r"\b(php[\d.]{0,4}-)\{([a-z\d_,]{1,300})\}")
"""Names of packages as a shell takes them: ``php8.2-{gd,intl}``."""

_TIME: Final = lazy_regex(
    r"^[ \t]*(?:\[\d{1,2}-[A-Z][a-z]{2}-\d{4} [\d:]{5,8}[^\]\n]{0,40}\]|"
    r"\[?\d{4}-\d\d-\d\d[ T]\d\d:\d\d(?::\d\d(?:[.,]\d{1,9})?)?(?:Z|[+-]\d\d:?\d\d)?\]?:?)(?=[ \t])",
    re.M,
)
"""The time with which a line of a log begins."""
_LEADERS: Final = lazy_regex(r"(?<!\.)\.{4,}+[ \t]*+(?=\w)")
"""Dots that lead from what is named to what is said of it: ``PHP ........ 8.0``"""
_QUOTES: Final = str.maketrans(dict.fromkeys("‘’‚", "'") | dict.fromkeys("“”„", '"'))


def lines_of(data: bytes) -> list[Line]:
    """The lines of a text, in order."""
    text = "".join(c if c.isprintable() or c in "\n\t" else " " for c in data.decode("utf-8", "replace"))
    text = _TIME.sub("", text.translate(_QUOTES))
    text = _BRACES.sub(lambda match: " ".join(match[1] + name for name in match[2].split(",") if name), text)
    text = _LEADERS.sub(": ", text)
    lines = of_page(text) if is_page(text) else of_text(rows_told(plain_rows(text)))
    return [line for line in lines if re.search(r"[A-Za-z]", line.text)][:MAX_LINES]
