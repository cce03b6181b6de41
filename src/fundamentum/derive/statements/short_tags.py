"""Code between ``<?`` and ``?>``: PHP gives it out as text where ``short_open_tag`` is off, as its samples have it."""

import re
from typing import Final

_TAG: Final = re.compile(rb"<\?(?:(?P<long>php\b|=)|(?P<short>\s))?", re.I)
_END: Final = b"?>"
MAX_TAGS: Final = 10_000


def short_tag(data: bytes, _: object = None) -> int:
    """The line of the first one; 0: there is none.  ``<?xml`` is something else, and so is what stands in code."""
    at = 0
    for _number in range(MAX_TAGS):
        if (match := _TAG.search(data, at)) is None:
            return 0
        if match["short"]:
            return data.count(b"\n", 0, match.start()) + 1
        if not match["long"]:
            at = match.end()
            continue
        end = data.find(_END, match.end())
        if end < 0:
            return 0
        at = end + len(_END)
    return 0
