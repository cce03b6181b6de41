"""Loops over lists: what is gone through, and what holds the members."""

from collections.abc import Iterator
from typing import NamedTuple

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import ancestors, children, field, text, walked


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
