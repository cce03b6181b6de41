"""Lists that are gone through: by a loop, by a closure that is called for each member, by a counter."""

import re
from collections.abc import Iterator
from typing import Final, NamedTuple

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import ancestors, arguments, called, children, field, inside, text, walked

_CLOSURES: Final = frozenset({"anonymous_function", "arrow_function"})
APPLYING: Final = frozenset({"array_walk", "array_map", "each", "map", "mapwithkeys", "flatmap"})
"""Functions, and methods of collections, that call what they are given for each member."""
_CALLS: Final = frozenset({"function_call_expression", "member_call_expression"})
_TAKING: Final = frozenset({"array_shift", "array_pop"})
_FUNCTIONS: Final = frozenset({"function_definition", "method_declaration"})
_COUNTING: Final = frozenset({"for_statement", "while_statement", "do_statement"})


class Loop(NamedTuple):
    """``foreach (SOURCE as $key => $member) { ... }``"""

    source: Node
    target: Node
    """What key and member are put into."""
    body: Node

    @property
    def key(self) -> str:
        """The variable for the key; empty if there is none."""
        return text(self.target.named_children[0]) if self.target.type == "pair" else ""

    @property
    def variables(self) -> list[str]:
        """All variables that a key, a member or a part of one is put into, in order."""
        return [text(node) for node in walked(self.target) if node.type == "variable_name"]


def loop_of(node: Node) -> Loop | None:
    """The loop that a statement is, if it is one over a list."""
    body = field(node, "body") if node.type == "foreach_statement" else None
    parts = children(node) if body is not None else []
    return Loop(parts[0], parts[1], body) if body is not None and len(parts) > 2 else None


def loops_around(place: Node) -> Iterator[Loop]:
    """The loops that a place stands in, the innermost first."""
    for above, _ in ancestors(place):
        if (loop := loop_of(above)) is not None:
            yield loop


class Member(NamedTuple):
    """One member of a list, at a place that is reached for each of them."""

    source: Node
    """The list."""
    names: frozenset[str]
    """Variables that hold the member, its key, or parts of it."""


def member(part: Node) -> Member | None:
    """The list of which an expression is a member, or a part of one such as ``$one['name']``; None: of none.

    ``foreach (LIST as $one)``, ``while ($one = array_shift(LIST))``, ``array_walk(LIST, function ($one) { ... })``,
    ``LIST[$number]`` in a loop.
    """
    name = re.split(r"\[|->", re.sub(r"^\(\w+\)\s*", "", text(part)))[0]
    for above, child in ancestors(part):
        if above.type in _FUNCTIONS:
            return None
        found = _gone_through(above, child) or _counted_through(above, part)
        if found is not None and name in found.names:
            return found
    return None


def outermost(part: Node) -> tuple[Node, bool]:
    """The list that the members come from in the end, where lists hold lists, and true; else the expression itself."""
    at, listed = part, False
    while (found := member(at)) is not None:
        at, listed = found.source, True
    return at, listed


def _gone_through(above: Node, child: Node) -> Member | None:
    loop = loop_of(above)
    if loop is not None:
        return Member(loop.source, frozenset({text(loop.target), *loop.variables})) if child == loop.body else None
    if above.type == "while_statement" and (condition := field(above, "condition")) != child and condition is not None:
        for taking in inside(condition):
            taken, target = field(taking, "right"), field(taking, "left")
            if taken is not None and called(taken) in _TAKING and arguments(taken):
                return Member(arguments(taken)[0], frozenset({text(target)}))
    if above.type in _CLOSURES and (parameters := field(above, "parameters")) is not None:
        call = next((node for node, _ in ancestors(above) if node.type in _CALLS), None)
        given = arguments(call) if call is not None and called(call) in APPLYING else []
        lists = [field(call, "object"), *given]
        source = next((one for one in lists if one is not None and one != above), None) if above in given else None
        names = frozenset(text(node) for node in walked(parameters) if node.type == "variable_name")
        return Member(source, names) if source is not None else None
    return None


def _counted_through(above: Node, part: Node) -> Member | None:
    if above.type not in _COUNTING or part.type != "subscript_expression" or part.named_child_count < 2:
        return None
    kept, key = part.named_children
    by_counter = kept.type == key.type == "variable_name"
    return Member(kept, frozenset({text(kept)})) if by_counter else None
