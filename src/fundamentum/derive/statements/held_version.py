"""How the expressions of a file are written that hold PHP's version, a part of it, or a number made of its parts."""

import re
from typing import Final, NamedTuple

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import arguments, called, text

_FULL: Final = rb"(?:PHP_VERSION\b|phpversion\s*\(\s*\))"
_BRANCH: Final = (
    rb"PHP_MAJOR_VERSION\s*\.\s*['\"]\.['\"]\s*\.\s*PHP_MINOR_VERSION|substr\(\s*" + _FULL + rb"\s*,\s*0\s*,\s*3\s*\)"
)
_KEPT: Final = re.compile(rb"(\$\w+)\s*=\s*(?:" + _FULL + rb"|" + _BRANCH + rb")\s*;")
_SPLIT: Final = re.compile(
    rb"(?:(\$\w+)|(?:list\s*\(|\[)\s*(\$\w+)\s*(?:,\s*(\$\w+))?[^=\]);]*[\])])\s*=\s*"
    rb"(?:array_map\s*\(\s*['\"]intval['\"]\s*,\s*)?explode\s*\(\s*['\"]\.['\"]\s*,\s*" + _FULL
)
_ADDED: Final = re.compile(rb"(\$\w+)\s*=\s*([^;=]{0,80}PHP_MAJOR_VERSION[^;=]{0,60}PHP_MINOR_VERSION[^;=]{0,60});")
_NUMBER: Final = re.compile(
    r"PHP_MAJOR_VERSION(?:\*(?P<major>10{1,4})\+|(?P<joined>\.))PHP_MINOR_VERSION(?:\*(?P<minor>100?))?"
    r"(?:\+PHP_RELEASE_VERSION)?"
)
EVERY_BRANCH: Final = tuple((major, minor) for major in range(5, 10) for minor in range(10))
"""Branches of PHP that there were and may be."""
_PLAIN_PATTERN: Final = re.compile(r"([/#~!@%])\^?[\w\s.^$\\()\[\]|?*+:-]{1,60}\1[imsuD]*")
MAX_REPEATED: Final = 5
"""Repetitions in a pattern that is tried."""


class Factors(NamedTuple):
    """``major * 100 + minor``: what the parts of a version are multiplied with in a number that is made of them."""

    major: int
    minor: int

    def version(self, number: str) -> str:
        """``8.1`` of ``801``."""
        major, rest = divmod(int(number), self.major)
        return f"{major}.{rest // self.minor}"


class HeldVersion:
    """The expressions of one file that hold PHP's version, or a part of it, by how they are written."""

    def __init__(self, data: bytes) -> None:
        self.full, self.major, self.minor = (
            {"PHP_VERSION", "PHP_VERSION_ID"},
            {"PHP_MAJOR_VERSION"},
            {"PHP_MINOR_VERSION"},
        )
        self.full |= {match[1].decode("latin-1") for match in _KEPT.finditer(data)}
        for match in _SPLIT.finditer(data) if b"explode" in data else ():
            array, first, second = (part.decode("latin-1") if part else "" for part in match.groups())
            self.major |= {first or f"{array}[0]"}
            self.minor |= {second or f"{array}[1]"} if second or array else set()
        added = _ADDED.finditer(data) if b"PHP_MINOR_VERSION" in data else ()
        self._numbers = {match[1].decode("latin-1"): match[2].decode("latin-1") for match in added}

    def variables(self) -> list[str]:
        """All of them that are variables."""
        names = (*self.full, *self.major, *self.minor, *self._numbers)
        return [name for name in names if name.startswith("$")]

    def is_version(self, node: Node) -> bool:
        """Whether an expression is PHP's version, or the beginning of it."""
        if node.type == "cast_expression":
            return any(self.is_version(child) for child in node.named_children)
        if called(node) in ("phpversion", "php_version"):
            return not arguments(node)
        if called(node) in ("substr", "floatval", "strtok"):
            given = arguments(node)
            return bool(given) and self.is_version(given[0])
        return text(node).lstrip("\\") in self.full | self.major

    def factors(self, node: Node | None) -> Factors | None:
        """What an expression multiplies the parts with; None for anything else."""
        written = re.sub(r"\(int\)|[\s()\\'\"]", "", self._numbers.get(text(node), text(node)))
        match = _NUMBER.fullmatch(written) if len(written) < 120 else None
        if match is None or (match["joined"] and match["minor"]):
            return None
        major, minor = int(match["major"] or 10), int(match["minor"] or 1)
        return Factors(major, minor) if minor < major else None


def branches_that_fit(pattern: str) -> list[tuple[int, int]]:
    """The branches of which the versions fit a pattern of PHP's; none for a pattern that is not a plain one."""
    if not _PLAIN_PATTERN.fullmatch(pattern) or sum(map(pattern.count, "?*+")) > MAX_REPEATED:
        return []
    try:
        tried = re.compile(pattern[1 : pattern.rindex(pattern[0])])
    except re.error:
        return []
    return [branch for branch in EVERY_BRANCH if tried.search("{}.{}.12".format(*branch))]
