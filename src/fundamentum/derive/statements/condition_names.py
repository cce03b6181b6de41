"""The names and words that a condition speaks of: ``$variable``, ``->property``, ``function()``, ``CONSTANT``."""

import re
from collections.abc import Iterable, Iterator
from typing import Final

from fundamentum.derive.families import words_for

_NAME: Final = re.compile(rb"(\$|->|::\$?|)([A-Za-z_]\w*)\s*(\(?)")
_WORDS_ASIDE: Final = frozenset(
    "isset empty if and or not true false null array count is_array new is_null in_array strtolower self static "
    "parent this is_string function_exists defined".split()
)


def names_in(written: bytes) -> Iterator[str]:
    """The names in a condition."""
    for sigil, word, call in _NAME.findall(written):
        name = word.decode("latin-1")
        if name.lower() in _WORDS_ASIDE:
            continue
        if call:
            yield name.lower() + "()"
        elif sigil == b"$":
            yield "$" + name
        elif sigil:
            yield "->" + name
        elif name.isupper():
            yield name


def names_one(written: bytes, extensions: Iterable[str]) -> bool:
    """Whether a string in the text names an extension by one of its words: ``case 'memcached'``."""
    strings = b" ".join(re.findall(rb"['\"]([^'\"]{2,40})['\"]", written)).decode("latin-1").lower()
    return bool(strings) and any(word in strings for extension in extensions for word in words_for(extension))
