"""Calls on what is called after requirements: ``Requirements::create()->php('8.1')->extension('gd')``

Who is called may be a library's, of which nothing is there to be followed.
"""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Check, Gate
from fundamentum.derive.php_source.nodes import field, line, nearest, text
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.statements.asking_calls import NEED_NOT
from fundamentum.derive.statements.extension_lists import listed_at
from fundamentum.derive.statements.requirement_names import OF_REQUIREMENTS

_CALLED: Final = re.compile(
    rb"->\s*+(?:php_?)?(?:ext(?:ension)?\s*+\(\s*+['\"](?P<extension>[a-z][\w -]{1,30})|"
    rb"(?:version|php)\s*+\(\s*+['\"](?:>=|\^|~)?\s*+(?P<version>\d{1,2}\.\d{1,2}(?:\.\d{1,2})?))['\"]",
    re.I,
)
_REQUIREMENTS: Final = re.compile(r"requir|prerequisit", re.I)
_WORDS: Final = (b"requir", b"prerequisit")
MAX_CHAIN: Final = 1000
"""Characters of what is called in which that word is looked for."""


def speaks(data: bytes, lowered: bytes) -> bool:
    """Whether a file may hold such a call.  ``lowered``: the same in lower case."""
    return any(word in lowered for word in _WORDS) and _CALLED.search(data) is not None


def chained_calls(root: Node, data: bytes) -> Iterator[Check | Gate]:
    """The extensions that are named so, with their levels, and the least version of PHP."""
    for match in _CALLED.finditer(data):
        written = root.descendant_for_byte_range(*match.span(match.lastgroup or 0))
        call = nearest(written, "member_call_expression") if written is not None else None
        if written is None or call is None or not _REQUIREMENTS.search(text(field(call, "object"))[:MAX_CHAIN]):
            continue
        if version := match["version"]:
            what = f"php('{version.decode()}')"
            yield Gate(">=", version.decode(), line(written), what, "reports", OF_REQUIREMENTS)
        elif name := extension_called(match["extension"].lower()):
            yield listed_at(name, not NEED_NOT.search(text(field(call, "arguments"))), written)
