"""Loaders of encoded files, which come from their makers: *the X Loader is required*."""

import re
from collections.abc import Iterator

from fundamentum.prose.line import Line
from fundamentum.prose.statement import Statement, level_of


def read(line: Line) -> Iterator[Statement]:
    """A name that ends with *Loader*, as PHP lists it."""
    for match in re.finditer(r"\b((?:[A-Za-z]\w+ )?[A-Za-z]\w+ Loader)\b", line.text):
        name = re.sub(r"^(?:The|the|A|a|an|No|no) ", "", match[1])
        yield Statement(("loaders", level_of(line)), name, level=level_of(line))
