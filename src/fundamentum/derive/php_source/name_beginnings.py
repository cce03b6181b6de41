"""Names of functions that are put together before they are called.

``$draw = 'imagecreatefrom' . $type; $draw($file);``
"""

import re
from bisect import bisect_left
from collections.abc import Iterator
from functools import cache, lru_cache
from itertools import islice
from typing import Final, NamedTuple

from fundamentum.catalog.symbols import symbols
from fundamentum.derive.families import CHOOSABLE

_BEGUN: Final = re.compile(
    rb"(?:(?P<name>\$\w{1,60})\s*+=\s*+|\bcall_user_func(?:_array)?\s*+\(\s*+)(?:sprintf\s*+\(\s*+)?"
    rb"['\"](?P<begins>[a-z]\w{2,30}?)(?:['\"]\s*+\.|\{?\$|%s)"
)
MAX_BEGUN: Final = 20
"""Such names of one file."""


class Begun(NamedTuple):
    """A name that is put together."""

    start: int
    """Where the string begins."""
    begins: str
    extension: str
    example: str
    """A function that may be meant."""
    asked: bool
    """Whether the file asks whether it is there."""


def begun_in(lowered: bytes) -> Iterator[Begun]:
    """Where a file in lower case puts together the name of a function of one extension, and calls it."""
    if b"call_user_func" not in lowered and not _CALLS.search(lowered):
        return
    # Most texts that something is put to are no beginnings: only those count towards the limit that are.
    known = (match for match in _BEGUN.finditer(lowered) if _beginning_so(match["begins"].decode("latin-1"))[0])
    for match in islice(known, MAX_BEGUN):
        begins, name = match["begins"].decode("latin-1"), re.escape(match["name"] or b"")
        extension, example = _beginning_so(begins)
        if re.search(rb"function\s+&?" + match["begins"], lowered):
            continue
        called = rb"%s\s*\(|\bcall_user_func(?:_array)?\s*\(\s*%s\b" % (name, name)
        if not name or re.search(called, lowered[match.end() :]):
            asked = name and re.search(rb"(?:function_exists|is_callable)\s*\(\s*%s\b" % name, lowered)
            yield Begun(match.start("begins"), begins, extension, example, bool(asked))


_CALLS: Final = re.compile(rb"\$\w++\s*+\(")


@cache
def _functions() -> tuple[str, ...]:
    return tuple(sorted(name for kind, name in symbols() if kind == "function"))


@lru_cache(maxsize=10_000)
def _beginning_so(begins: str) -> tuple[str, str]:
    """The extension of which alone are all functions, several, that begin so, and the first of them.

    Beginnings such as ``filter_`` and ``session_`` are an application's own as often.
    """
    names, at = _functions(), bisect_left(_functions(), begins)
    those = []
    while at < len(names) and names[at].startswith(begins):
        those.append(names[at])
        at += 1
    who = {symbol.extension for name in those for symbol in symbols()[("function", name)]}
    return (who.pop(), those[0]) if len(those) > 1 and len(who) == 1 and who <= CHOOSABLE else ("", "")
