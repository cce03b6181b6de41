"""Lists to which a program adds what is there, and that must not stay empty.

``if (extension_loaded('mysqli')) { $drivers[] = 'MySQL'; } ... if (!$drivers) exit;``
"""

from collections.abc import Iterator
from typing import NamedTuple

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import children, field, nearest, text
from fundamentum.derive.statements.branches import function_of, named_behind, set_by
from fundamentum.derive.statements.consequences import where_asked
from fundamentum.derive.statements.outcomes import COLLECTORS
from fundamentum.derive.statements.truth import Worth


class Collector(NamedTuple):
    """A list that is added to."""

    scope: int
    """The function around."""
    name: str


def collector_of(check: Node) -> Collector | None:
    """The list to which the branch of a check adds, if something comes of its being empty."""
    for kept in _added_to(check):
        scope = function_of(kept)
        empty = (told for place in named_behind(kept, scope) for told in where_asked(place, Worth(None, [])))
        if any(result and not holds for holds, result in empty):
            return Collector(scope.id, text(kept))
    return None


def adds_to(check: Node | None, collector: Collector) -> bool:
    """Whether the branch of a check adds to a list."""
    kept_there = _added_to(check) if check is not None and function_of(check).id == collector.scope else ()
    return any(text(kept) == collector.name for kept in kept_there)


def _added_to(check: Node) -> Iterator[Node]:
    """What the plain statements of the branch add to; not what errors are put into."""
    body = field(nearest(check, "if_statement"), "body")
    for line in children(body) if body is not None and body.type == "compound_statement" else [body]:
        added = line.named_children[0] if line is not None and line.type == "expression_statement" else None
        kept, value = set_by(added) if added is not None else (None, None)
        plain = kept is not None and value is True and kept.type == "variable_name" and kept.parent != added
        if plain and kept is not None and not COLLECTORS.search(text(kept)):
            yield kept
