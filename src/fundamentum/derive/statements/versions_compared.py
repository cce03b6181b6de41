"""Conditions of a program that depend on PHP's version: each is tried with every version there may be.

What then holds for a range of versions says so in terms of that range, however it is written: by id, by the parts of
the version, by a function, with a pattern, in a list.
"""

import re
from collections.abc import Iterator, Sequence
from itertools import islice, pairwise
from typing import Final, NamedTuple

from tree_sitter import Node

from fundamentum.derive.php_source.evaluation import Cases, cases_of
from fundamentum.derive.php_source.facts import Name, Operator
from fundamentum.derive.php_source.nodes import Patience, arguments, called, string, text
from fundamentum.derive.php_source.scalars import Value, is_true
from fundamentum.derive.statements.held_version import CALLS, NAMED, SPEAKING, HeldVersions, Version
from fundamentum.derive.statements.truth import known_around
from fundamentum.derive.statements.versions_chosen import clauses

Bound = tuple[Operator, str | Name]
_BRANCHES: Final = frozenset(
    (major, minor) for major, minors in ((5, 7), (7, 5), (8, 10), (9, 10)) for minor in range(minors)
)
"""Branches of PHP that there were and may be."""
_NEWEST: Final = (9, 0, 0)
"""From here on nobody has listed a version yet."""
_PATCHES: Final = frozenset({0, 9})
_WRITTEN: Final = re.compile(r"(?<![\d.])\d(?:\.\d{1,2}){0,2}(?![\d.\\])")
_ID: Final = re.compile(r"\b[5-9]\d{4}\b")
_NUMBER: Final = re.compile(r"(?<![\d.])\d{1,2}(?![\d.])")
"""A number that a part of the version may be compared with."""
MAX_EXPRESSION: Final = 2000
"""Characters of an expression that are searched for versions."""
MAX_LAST: Final = 12
"""Numbers of an expression that are tried as the last part of a version."""
MARKED: Final = (7, 3, 5)
"""The version that stands for one which is kept under a name elsewhere."""
_MARKS: Final[tuple[tuple[Value, tuple[Version, Version]], ...]] = (
    ("7.3.5", (MARKED, (7, 3, 6))),
    (70305, (MARKED, (7, 3, 6))),
    ("7.3", ((7, 3, 0), (7, 4, 0))),
    (7, ((7, 0, 0), (8, 0, 0))),
)
"""How it may be written, with the first version that is not older, and the first that is newer."""
_AROUND_MARK: Final[tuple[Version, ...]] = (
    (5, 0, 0), (7, 0, 0), (7, 2, 0), (7, 3, 0), (7, 3, 4), MARKED, (7, 3, 6), (7, 4, 0), (8, 0, 0), (9, 9, 0),
)  # fmt: skip


class Compared(NamedTuple):
    """A condition that depends on PHP's version alone."""

    place: Node
    """Where the version is compared."""
    condition: Node
    """The largest expression around that depends on nothing else."""
    holds: tuple[Bound, ...]
    """The range of versions for which it is true; empty where that is no range."""
    fails: tuple[Bound, ...]
    """The range for which it is false."""


def versions_compared(root: Node, data: bytes) -> Iterator[Compared]:
    """Where PHP's version is compared in one file."""
    if not SPEAKING.search(data):
        return
    held = HeldVersions(root, data)
    seen: set[int] = set()
    for leaf in [*held.places()]:
        for compared in _compared(leaf, held):
            if compared.condition.id not in seen and (compared.holds or compared.fails):
                seen.add(compared.condition.id)
                yield compared


class _Told(NamedTuple):
    """A condition, and whether it is true for each version."""

    place: Node
    condition: Node
    true: tuple[bool, ...]


class _Climb:
    """From a place that is PHP's version to the largest expression around that depends on it alone."""

    def __init__(self, held: HeldVersions, versions: Sequence[Version], mark: Value = None) -> None:
        self.held, self.versions, self.mark = held, versions, mark
        self.marked: Node | None = None
        """What the mark stands for."""
        self.last: tuple[Node, Cases]
        """The largest expression around that is known, and what it comes to."""

    def told(self, leaf: Node) -> _Told | None:
        """The condition, if there is one."""
        self.last = leaf, ()
        condition: _Told | None = None
        place: Node | None = None
        for at, told in known_around(leaf, self.held.cases(leaf, self.versions) or (), self._known):
            self.last = at, told
            if at != leaf and len({is_true(value) for value in told}) > 1:
                place = place if place is not None and isinstance(told[0], bool) else at
                condition = _Told(place, at, tuple(map(is_true, told)))
        return condition

    def _known(self, node: Node) -> Cases | None:
        return self.held.cases(node, self.versions) or self._by_mark(node)

    def _by_mark(self, node: Node) -> Cases | None:
        named = node.type in NAMED or (node.type in CALLS and not arguments(node) and called(node))
        if self.mark is None or not named or text(node) != text(self.marked or node):
            return None
        self.marked = node
        return (self.mark,) * len(self.versions)


def _tried(leaf: Node) -> tuple[Version, ...]:
    """The versions to try: of each branch the first, a later one, and those around what is written out."""
    expression = leaf
    while expression.parent is not None and not expression.type.endswith("_statement"):
        Patience.tick()
        expression = expression.parent
    written = text(expression)[:MAX_EXPRESSION]
    known = [_version(number) for number in _WRITTEN.findall(written)]
    known += [(int(number[0]), int(number[1:3]), int(number[3:])) for number in _ID.findall(written)]
    last = {*islice(dict.fromkeys((*(patch for _, _, patch in known), *map(int, _NUMBER.findall(written)))), MAX_LAST)}
    patches = _PATCHES.union(*({max(patch - 1, 0), patch, min(patch + 1, 99)} for patch in last))
    branches = _BRANCHES | {(major, minor) for major, minor, _ in known if 5 <= major < 10}
    return tuple((major, minor, patch) for major, minor in sorted(branches) for patch in sorted(patches))


def _compared(leaf: Node, held: HeldVersions) -> Iterator[Compared]:
    climb = _Climb(held, versions := _tried(leaf))
    told = climb.told(leaf)
    chosen = clauses(*climb.last, lambda node: cases_of(node, lambda _: None, len(versions)))
    for place, condition, true in (*([told] if told else []), *(_Told(leaf, *clause) for clause in chosen)):
        expression = text(condition)[:MAX_EXPRESSION]
        holds, fails = (_range(true, truth, versions, expression) for truth in (True, False))
        yield Compared(place, condition, holds, fails)
    for mark, borders in _MARKS if told is None else ():
        climb = _Climb(held, _AROUND_MARK, mark)
        told, name = climb.told(leaf), kept_under(climb.marked)
        changes = [n for n, (older, newer) in enumerate(pairwise(told.true), 1) if older != newer] if told else []
        if told is None or name is None or len(changes) != 1 or _AROUND_MARK[changes[0]] not in borders:
            continue
        newer: Operator = ">=" if _AROUND_MARK[changes[0]] == borders[0] else ">"
        older: Operator = "<" if newer == ">=" else "<="
        holds, fails = ((newer, name),), ((older, name),)
        yield Compared(told.place, told.condition, *((holds, fails) if told.true[-1] else (fails, holds)))
        return


def _range(true: Sequence[bool], truth: bool, versions: Sequence[Version], expression: str) -> tuple[Bound, ...]:
    """The range of versions for which a condition is so; empty where that is none, or more than one.

    Of a list with gaps it is from the first to the last: a list ends with what there was, others go on to the newest.
    """
    there = [number for number, value in enumerate(true) if value is truth]
    whole = bool(there) and len(there) == there[-1] - there[0] + 1
    if not there or not (whole or versions[there[-1]] < _NEWEST):
        return ()
    first, behind = there[0], there[-1] + 1
    lower: list[Bound] = [(">=", _named(versions[first], expression))] if first else []
    upper: list[Bound] = [("<", _named(versions[behind], expression))] if behind < len(versions) else []
    return (*lower, *upper)


def _version(written: str) -> Version:
    major, minor, patch = (*map(int, written.split(".")), 0, 0)[:3]
    return major, minor, patch


def _named(version: Version, expression: str) -> str:
    """A version as it is written in an expression; else in the usual way."""
    same = (number for number in _WRITTEN.findall(expression) if _version(number) == version)
    return max(same, key=len, default="{}.{}.{}".format(*version).removesuffix(".0"))


def kept_under(node: Node | None) -> Name | None:
    """The name under which a version is kept: of a constant, a variable or property, a key."""
    written = text(node)
    if node is not None and node.type in CALLS:
        return Name("function", re.split(r"->|::|\\\\", written.partition("(")[0])[-1])
    if node is None or node.type in ("name", "qualified_name"):
        return Name("constant", written.rpartition("\\")[2]) if written else None
    if node.type == "class_constant_access_expression":
        return Name("constant", written.rpartition("::")[2])
    if node.type == "subscript_expression":
        key = string(node.named_children[-1])
        return Name("key", key) if key else None
    return Name("variable", re.split(r"->|::\$?", written)[-1].lstrip("$"))
