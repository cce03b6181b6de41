"""Which statements of a large function, or a large file, have to do with what it asks; the others are passed over."""

import itertools
import re
from bisect import bisect_left, bisect_right
from collections.abc import Collection, Iterator, Sequence
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.bare_code import all_words
from fundamentum.derive.php_source.word_search import first_word, places_of_name
from fundamentum.derive.trying.parts import Part, asking

LARGE: Final = 1500
"""Bytes from which on a function is not gone through as a whole."""
_SPLIT: Final = re.compile(rb"[;{}]")
_NAMES: Final = re.compile(rb"\$\w++(?:->\w++)?|(?<!\w)\w++::\$?\w++")
_GIVEN: Final = re.compile(
    rb"(\$\w++(?:->\w++)?|(?<!\w)\w++::\$\w++)\s*+(?:\[[^\]]{0,200}+\]\s*+){0,6}+(?:[.+|&?*/-]{0,2}=(?![=>])|\+\+)|\bas\s+(.*)|"
    rb"\barray_(?:push|unshift)\s*+\(\s*+(\$\w++(?:->\w++)?)",
    re.S,
)
_ELSE: Final = re.compile(rb"\}\s*+else\s*+\{")
_ASIDE: Final = frozenset({b"$this", b"$_get", b"$_post", b"$_request", b"$_server", b"$_session", b"$_cookie"})
_HELD_AGAINST: Final = re.compile(rb"(?<!\w)(?:in_array|array_\w++)\s*+\([^;{}]{0,200}")
"""A call in which something is looked for in a list, which may hold an answer."""
MAX_BLOCK: Final = 400
"""Bytes of what is done where something is missing, of which all is looked at."""
MAX_CHUNKS: Final = 4000
MAX_NAMES: Final = 120
_SCOPES: Final = frozenset({"function_definition", "method_declaration", "program"})
_DECIDING: Final = frozenset({"if_statement", "else_if_clause", "foreach_statement", "while_statement", "for_statement",
                              "switch_statement", "case_statement", "do_statement"})  # fmt: skip


class Slices:
    """Answers of a statement whether it has to do with what is asked around it."""

    def __init__(self, relevant: Collection[str], asking_files: Collection[str]) -> None:
        """``relevant``: functions of which the answers matter; ``asking_files``: files that ask something."""
        self._names: dict[bytes, list[bytes]] = {}
        """The first word of a name → names: what a text has not the first word of is not looked for in it."""
        for word in dict.fromkeys((*relevant, *(path.rpartition("/")[2] for path in asking_files))):
            name = word.encode("utf-8", "replace").lower()
            self._names.setdefault(first_word(name), []).append(name)
        self._places: dict[Part, list[int] | None] = {}
        """Function → the bytes of its file that have to do with it; None: it is small, and all of it matters."""
        self._known: dict[Part, bool] = {}

    def tell(self, statement: Part) -> bool:
        """Whether a statement is worth going through."""
        if statement not in self._known:
            scope = _scope(statement)
            if scope not in self._places:
                self._places[scope] = self._found(scope)
            places = self._places[scope]
            self._known[statement] = places is None or _stands_in(places, statement.node) or _decided(statement, places)
        return self._known[statement]

    def asks(self, function: Part) -> bool:
        """Whether a function asks something of the server, or one of which the answer matters."""
        return function.asks or next(self._named((function.node.text or b"").lower()), None) is not None

    def _found(self, scope: Part) -> list[int] | None:
        data = (scope.node.text or b"").lower()
        if len(data) < LARGE:
            return None
        asks = [*asking(data), *self._named(data)]
        names = _names_with(data, asks)
        places = asks + [match.start() for match in _NAMES.finditer(data) if match[0] in names]
        return sorted(scope.node.start_byte + at for at in places)

    def _named(self, data: bytes) -> Iterator[int]:
        """Where a function or a file is named of which the answers matter."""
        words = all_words(data) | {b""}
        for name in (name for word in self._names.keys() & words for name in self._names[word]):
            yield from places_of_name(data, name)


def _stands_in(places: Sequence[int], node: Node) -> bool:
    at = bisect_left(places, node.start_byte)
    return at < len(places) and places[at] < node.end_byte


def _decided(statement: Part, places: Sequence[int]) -> bool:
    """Whether what decides on a statement has to do with it: then all matters that is done there."""
    above = statement.above
    while above is not None and above.type not in _SCOPES:
        if above.type == "catch_clause":
            return True
        if above.type in _DECIDING:
            condition = above.get("condition") or above.get("value")
            heads = [condition] if condition is not None else above.kids[:2]
            if any(_stands_in(places, head.node) for head in heads):
                return True
        above = above.above
    return False


def _names_with(data: bytes, asking: Sequence[int]) -> set[bytes]:
    """The names in a function that have to do with what it asks: what is given to them, and what they are given to."""
    starts = [0, *(match.end() for match in _SPLIT.finditer(data))][:MAX_CHUNKS]
    names: set[bytes] = set()
    answers: set[bytes] = set()
    for number in {bisect_right(starts, at) - 1 for at in asking}:
        end = starts[number + 1] if number + 1 < len(starts) else len(data)
        names.update(_NAMES.findall(data, starts[number], end))
        answers |= _given(data[starts[number] : end])
        names |= _given_behind(data, end)
    for start, end in itertools.pairwise(starts) if answers else ():
        if data[end - 1 : end] == b"{" and not answers.isdisjoint(_NAMES.findall(data, start, end)):
            names |= _given_behind(data, end)
    names -= _ASIDE
    for match in _HELD_AGAINST.finditer(data) if answers else ():
        held = _NAMES.findall(match[0])
        last = max((at for at, name in enumerate(held) if name in answers), default=-1)
        names.update(held[: last + 1])
    told = [(set(_NAMES.findall(chunk)) - _ASIDE, _given(chunk)) for chunk in _SPLIT.split(data, MAX_CHUNKS)]
    before = -1
    while before != len(names) < MAX_NAMES:
        before = len(names)
        for spoken, given in told:
            if given & names:
                names |= spoken
            elif spoken & names:
                names |= given
    return names


def _given_behind(data: bytes, end: int) -> set[bytes]:
    """What is given something in the block that begins at a place, and in the other way beside it."""
    names: set[bytes] = set()
    while data[end - 1 : end] == b"{" and 0 <= (last := data.find(b"}", end)) - end < MAX_BLOCK:
        names |= _given(data[end:last])
        other = _ELSE.match(data, last)
        end = other.end() if other else 0
    return names


def _given(chunk: bytes) -> set[bytes]:
    """What a statement gives a value."""
    names: set[bytes] = set()
    for source, targets, longer in _GIVEN.findall(chunk):
        names.update([source or longer] if source or longer else _NAMES.findall(targets))
    return names - _ASIDE


def _scope(part: Part) -> Part:
    while part.above is not None and part.type not in _SCOPES:
        part = part.above
    return part
