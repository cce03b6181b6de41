"""Whether a function may do something else on an object of a class that extends its own.

It is gone through for the class it stands in, then for each that extends it; most of those have nothing of what it
names, and for them it does the same again.
"""

import re
from collections.abc import Iterable
from typing import Final

from fundamentum.derive.trying.property_kinds import MAX_CLASS, classes_of_properties

_MEMBER: Final = re.compile(
    rb"\bfunction\s++&?\s*+(\w++)|"
    rb"\b(?:public|protected|private|var|static|readonly)\s[^$(){};=]{0,80}+\$(\w++)"
)
_GIVEN: Final = re.compile(rb"->(\w++)\s*+=(?![=>])")
_CONSTANTS: Final = re.compile(rb"\bconst\s([^;]{1,4000}+)")
_CONSTANT: Final = re.compile(rb"(\w++)\s*+=(?![=>])")
_TRAIT: Final = re.compile(rb"[{;}]\s*+use\s++[\w\\]")
_CLASS: Final = re.compile(rb"\b(?:class|trait)\s")
_WITHOUT_NAME: Final = re.compile(
    rb"->\s*+[${]|::\s*+(?:\{|\$\w++\s*+\()|\$this\s*+,(?!\s*+['\"]\w++['\"]\s*+[\]),])|\bget_class_methods\b|"
    rb"\b(?:static|self)::class\b|\bnew\s++static\b|\bget_(?:called_)?class\b"
)
"""What may come to a member of a class that is not named, or to the name of the class itself."""
_ALWAYS: Final = frozenset(
    b"__get __set __isset __call __callstatic __tostring offsetget getiterator valid current key next rewind".split()
)
"""Methods that PHP calls by itself."""
_NAMED: Final = re.compile(rb"(?:->|\bstatic::)\s*+\$?(\w++)|['\"](\w++)['\"]")
"""Members of an object, and of the class that it really is of; those of ``self`` are of no class that extends it."""


def members_of(data: bytes, name: str) -> frozenset[bytes] | None:
    """What a class may have of its own, by name in lower case, and its own name; None: that cannot be told.

    ``data``: the files in which a class of that name is defined.
    """
    first = _CLASS.search(data) if len(data) < MAX_CLASS else None
    if first is None or _TRAIT.search(data, first.start()):
        return None  # a trait's members stand elsewhere
    members = {match[1] or match[2] for match in _MEMBER.finditer(data)} | {*_GIVEN.findall(data)}
    members |= {constant for those in _CONSTANTS.findall(data) for constant in _CONSTANT.findall(those)}
    members |= {key.encode() for key in classes_of_properties(data.decode("utf-8", "replace"))}
    return frozenset(member.lower() for member in members) | {name.encode()}


def named_in(texts: Iterable[bytes]) -> frozenset[bytes] | None:
    """The members that functions name which were gone through; None: they may come to others, too."""
    names = set[bytes]()
    for text in texts:
        if _WITHOUT_NAME.search(text):
            return None
        names |= {(match[1] or match[2]).lower() for match in _NAMED.finditer(text)}
    return frozenset(names) | _ALWAYS
