"""Directories that a program is set up to write to, by the names of its settings.

``'log_dir' => __DIR__ . '/../var/log'``, ``$renderer->setCompileDir('./templates_c')``, ``const CACHE_PATH = 'cache';``
"""

import re
from collections.abc import Iterator
from itertools import islice
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.php_source.nodes import ancestors, children, field
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.php_source.word_search import matching
from fundamentum.derive.statements.values import values
from fundamentum.derive.statements.wishes import directories_named

IN_SETTINGS: Final = "set up as a place to write"
_WORDS: Final = (b"cache", b"compile", b"log", b"upload", b"tmp", b"temp", b"session", b"spool", b"backup", b"thumb")
_SETS: Final = re.compile(
    rb"(?:cache|compiled?|logs?|uploads?|tmp|temp|sessions?|spool|backups?|thumb(?:nail)?s?)"
    rb"(?:_?(?:dir(?:ectory)?|path|folder|(?P<file>file)))\b['\"]?+\s{0,9}+\]?+\s{0,9}+(?P<sign>=>|=(?!=)|,|\()\s{0,9}+"
    rb"(?P<value>['\"_$a-z\\])"
)
"""What such settings are called, and how they are given something; in lower case."""
_SETTERS: Final = (b"set", b"set_")
MAX_SETTINGS: Final = 60
"""Such places of one file."""
_WHOLE: Final = frozenset({"argument", "array_element_initializer", "const_element", "property_element"})


def speaks(lowered: bytes) -> bool:
    """Whether a file may set up such a directory.  ``lowered``: its bytes in lower case."""
    return next(matching(_SETS, _WORDS, lowered), None) is not None


def configured_directories(source: Source) -> Iterator[Wish]:
    """The directories that a file sets up, as far as their paths are known."""
    lowered = source.data.lower()
    for match in islice(matching(_SETS, _WORDS, lowered), MAX_SETTINGS):
        if match["sign"] == b"(" and not lowered.endswith(_SETTERS, 0, match.start()):
            continue  # compile_file('night.css'): a function that is called so
        value = _value_at(source, match.start("value"))
        for path in values(value, source) if value is not None else ():
            for directory in directories_named(path, of_file=match["file"] is not None):
                yield Wish("directory", directory, "", source.data.count(b"\n", 0, match.start()) + 1, IN_SETTINGS)


def _value_at(source: Source, at: int) -> Node | None:
    """The whole of the value that begins at a byte."""
    node = source.at(at, at + 1)
    for above, child in ancestors(node) if node is not None else ():
        if child.start_byte != at:
            return None
        given = above.type == "assignment_expression" and field(above, "right") == child
        if given or (above.type in _WHOLE and children(above)[-1:] == [child]):
            return child
        if above.type == "arguments":
            return child
    return None
