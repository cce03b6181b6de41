"""Functions that may be switched off: *exec() is disabled*, *the function proc_open must be available*."""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.catalog import own_functions
from fundamentum.catalog.symbols import providers
from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import Statement, level_of

_CALLED: Final = lazy_regex(r"(?<![\w>:$\\])([a-z_][a-z0-9_]{2,60})\(\)")
_NAMED: Final = lazy_regex(
    r"\bfunctions?\s+[\"'`]?([a-z_][a-z0-9_]{2,60})\b|\b([a-z]+_[a-z0-9_]+|exec|system|passthru|popen|symlink|mail)[\"'`]?\s+function\b",
    re.I,
)


_MESSAGE: Final = lazy_regex(r"\W*(?:PHP )?(?:Warning|Notice|Deprecated):\s", re.I)
"""PHP's own message about a call that was made: the function is there."""
_DISABLED: Final = lazy_regex(r"\bdisabled\b|\bnot (?:available|allowed|there)\b", re.I)
_SWITCHED_OFF: Final = lazy_regex(
    r"[\"'`“«]([a-z_][a-z0-9_]{2,60})[\"'`”»]\s+(?:is|has been|was) disabled (?:in|by|on)\b", re.I
)
_ALLOWED: Final = lazy_regex(
    r"([\w\s,\"'`()]{2,200}?)\b(?:must|should|may|can) ?not be\b[^.]{0,40}\bdisable_functions\b"
)
"""*exec and mail must not be in disable_functions*"""
_BETWEEN: Final = lazy_regex(r",\s*(?:and\s+|or\s+)?|\s+and\s+|\s+or\s+")


def read(line: Line) -> Iterator[Statement]:
    """Each function that a line asks for.  One that is undefined is the reader of extensions' business."""
    allowed = _ALLOWED.match(line.text)
    if re.search(r"undefined function", line.text, re.I) or ("disable_functions" in line.text and not allowed):
        return
    if _MESSAGE.match(line.text) and not _DISABLED.search(line.text):
        return
    level = level_of(line)
    names = [match[1] for match in _CALLED.finditer(line.text)]
    names += [match[1] or match[2] for match in _NAMED.finditer(line.text)]
    names += [match[1] for match in _SWITCHED_OFF.finditer(line.text)]
    listed = re.search(r"\bfunctions?\b(?: (?:are )?(?:required|needed))?:?\s+", line.text)
    if allowed or listed:
        words = _BETWEEN.split(allowed[1] if allowed else line.text[listed.end() if listed else 0 :])[:30]
        names += [match[1] for word in words if (match := re.match(r"[\"'`]?([a-z_][a-z0-9_]+)\b", word.strip()))]
    for name in dict.fromkeys(name.lower() for name in names):
        if name in own_functions() or providers("function", name):
            yield Statement(("functions", level), name, level=level)
