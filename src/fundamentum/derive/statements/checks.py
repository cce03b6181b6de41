"""The checks of one file: where it asks for which extension, and what comes of it where that is missing."""

import itertools
import re
from collections.abc import Iterator, Sequence
from typing import Final, Literal

import msgspec
from tree_sitter import Node

from fundamentum.catalog import canonical
from fundamentum.catalog.symbols import EVERYWHERE, known_extensions
from fundamentum.derive.php_source.nodes import (
    arguments,
    called,
    parent_of,
    string,
    text,
)
from fundamentum.derive.php_source.quoted import apart_once
from fundamentum.derive.php_source.source import CHECKS, Source, provided
from fundamentum.derive.statements.asking_calls import ASKING
from fundamentum.derive.statements.host_functions import stands_for
from fundamentum.derive.statements.outcomes import gives_up
from fundamentum.derive.statements.where_missing import turned, where_missing

_EXIT: Final = re.compile(rb"\b(?:exit|die)\s*[(;]|E_USER_ERROR", re.I)
_THROW: Final = re.compile(rb"\bthrow\s+(?:new\b|\\?\w[\w\\]{0,100}::)", re.I)
LISTING_DRIVERS: Final = b"getavailabledrivers"
"""``in_array('mysql', PDO::getAvailableDrivers())`` asks for an extension, too."""
_LISTING: Final = {LISTING_DRIVERS: "driver", b"get_loaded_extensions": "extension"}
_IN_LIST: Final = "in_array"
_OF_EXTENSION: Final = re.compile(rb"ext(?:ensions?)?(?:_|\Z|loaded|exists?|avail\w*|enabled|installed|present)")
"""Names of the program's own functions that answer whether an extension is there."""
MAX_CHECKS: Final = 500
"""Checks of one file that are looked at: an installer has a few dozen."""


class CheckAt(msgspec.Struct, frozen=True):
    """One check, where it stands in the file."""

    start: int
    extensions: tuple[str, ...]
    negative: bool
    """Whether it asks for absence: ``!extension_loaded('gd')``."""
    what: str


class Checks:
    """The places that ask for an extension, in order."""

    def __init__(self, source: Source, lowered: bytes, words: frozenset[bytes]) -> None:
        self.source, self.lowered = source, lowered
        self.words = [name for name in CHECKS if name.encode() in words]
        self.words += [_IN_LIST] if any(word in lowered for word in _LISTING) else []
        self.helpers = {word.decode() for word in ASKING.among(words) if _OF_EXTENSION.search(word)} - set(self.words)
        self.at = tuple(itertools.islice(self._find(), MAX_CHECKS))

    def node(self, check: CheckAt) -> Node | None:
        """The name of the function that is called for it."""
        return self.source.at(check.start, check.start + 1)

    def stops(self, check: CheckAt) -> bool:
        """Whether the program, or the function around, ends where the extension is missing."""
        node = self.node(check)
        return node is not None and self.outcome(check, node) in ("exits", "leaves", "throws")

    def outcome(self, check: CheckAt, node: Node) -> Literal["asked", "exits", "leaves", "throws"]:
        """What happens where the extension is absent."""
        branch = where_missing(node, check.negative)
        return self.ends(branch) if branch is not None else "asked"

    def _find(self) -> Iterator[CheckAt]:
        for name, start, end in self._calls():
            node = self.source.at(start, end)
            call = parent_of(node)
            if call is not None and call.type == "qualified_name":
                call = call.parent
            if call is None or not self._asks(call, name):
                continue
            given = arguments(call)
            value = self._value(given[0]) if given else None
            kind = self._listed(given) if name == _IN_LIST else CHECKS.get(name, "extension")
            extensions = asked_for(kind, value) if value is not None and kind else ()
            if extensions:
                yield CheckAt(start, extensions, self._negated(call), f"{name}('{(value or '')[:60]}')")

    def _asks(self, call: Node, name: str) -> bool:
        """Whether PHP is asked, or one of the program's own functions that asks it: ``Platform::hasExtension('gd')``"""
        if call.type == "function_call_expression" and name not in self.helpers:
            return self.source.called(call) == name
        answer = call.parent is not None and call.parent.type != "expression_statement"
        return called(call) == name and answer

    def _calls(self) -> Iterator[tuple[str, int, int]]:
        mentions = []
        for name in (*self.words, *self.helpers):
            at = self.lowered.find(name.encode())
            while at >= 0:
                end = at + len(name)
                mentions.append((name, at, end))
                at = self.lowered.find(name.encode(), end)
        return iter(sorted(mentions, key=lambda mention: mention[1]))

    def _value(self, node: Node) -> str | None:
        if node.type == "class_constant_access_expression":
            return self.source.names.class_name(text(node.children[0]), node.start_byte)
        if node.type == "array_creation_expression" and node.named_children:
            first = node.named_children[0].named_children
            return self._value(first[-1]) if first else None
        if node.type == "variable_name":  # one that is given a word once
            name = re.escape(text(node).encode("utf-8", "replace"))
            given: list[bytes] = re.findall(
                rb"%s\s*=(?![=>])\s*(?:['\"]([\w -]{1,40})['\"]\s*;)?" % name, self.source.data
            )
            return given[0].decode() if len(given) == 1 and given[0] else None
        return string(node)

    def _listed(self, given: Sequence[Node]) -> str:
        """What a list is of that something is looked for in: PDO's drivers, loaded extensions; empty: of neither.

        Or a variable that was given it.
        """
        if len(given) < 2:
            return ""
        written = text(given[1]).lower().encode("utf-8", "replace")
        for word, kind in _LISTING.items():
            kept = rb"%s\s*=[^;]{0,80}%s" % (re.escape(written), word)
            if word in written or (given[1].type == "variable_name" and re.search(kept, self.lowered)):
                return kind
        return ""

    def _negated(self, call: Node) -> bool:
        """Whether the condition around is true where the extension is absent.

        Of a version that is compared: whether it asks for an older one, as that of what is not there is.
        """
        older = False
        compared = parent_of(call, 3)
        if compared is not None and self.source.called(compared) == "version_compare":
            given = arguments(compared)
            older = len(given) == 3 and (string(given[2]) or "") in ("<", "lt", "<=", "le")
            call = compared
        return turned(call) is not older

    def ends(self, node: Node) -> Literal["asked", "exits", "leaves", "throws"]:
        """What ends in a branch: the program, or the function around by an exception; neither: the check only asks."""
        written = self.source.data[node.start_byte : node.end_byte] + b";"
        if _EXIT.search(written):
            return "exits"
        if gives_up(node):
            return "leaves"
        return "throws" if _THROW.search(written) else "asked"


_UNHEARD_OF: Final = re.compile(r"[a-z]\w{2,30}|[A-Za-z]\w{1,30}(?: \w{1,20})? [Ll]oader")
"""An extension that neither PHP nor a distribution has, and one that reads encoded files."""


def asked_for(kind: str, value: str) -> tuple[str, ...]:
    """The extensions that a check asks for by a name: their own, or that of something that they provide."""
    if kind == "extension":
        name = canonical(value)
        unheard_of = name not in EVERYWHERE and _UNHEARD_OF.fullmatch(value)
        return (name,) if name in known_extensions() or unheard_of else ()
    if kind == "driver":
        return (f"pdo_{value}",) if f"pdo_{value}" in known_extensions() else ()
    if kind == "function" and (host := stands_for(value)):
        return (host,)
    value = value.replace("\\\\", "\\").lstrip("\\")
    if kind in ("function", "constant") and "::" in value and not provided(kind, value):
        kind, value = "class", value.partition("::")[0]
    extensions = tuple(extension for extension in provided(kind, value) if extension not in EVERYWHERE)
    return extensions or apart_once(kind, value)
