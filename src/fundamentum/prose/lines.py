"""A text as lines, each a sentence, an entry of a list or a row of a table, with the heading above it."""

import re

from fundamentum.prose.line import Line
from fundamentum.prose.marked_up import is_page, plain_rows
from fundamentum.prose.page_text import of_page
from fundamentum.prose.plain_text import MAX_LINES, of_text


def lines_of(data: bytes) -> list[Line]:
    """The lines of a text, in order."""
    text = "".join(c if c.isprintable() or c in "\n\t" else " " for c in data.decode("utf-8", "replace"))
    lines = of_page(text) if is_page(text) else of_text(plain_rows(text))
    return [line for line in lines if re.search(r"[A-Za-z]", line.text)][:MAX_LINES]
