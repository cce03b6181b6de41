"""Extensions that a program reflects on, which fails where they are missing.

``try { new ReflectionExtension('intl'); } catch (ReflectionException $e) { exit('intl is missing'); }``
"""

import re
from collections.abc import Iterator
from typing import Final, Literal

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Check, Outcome
from fundamentum.derive.php_source.nodes import ancestors, around, heading, line, names_around, string, text
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.statements.asking_functions import gone_through
from fundamentum.derive.statements.extension_lists import members
from fundamentum.derive.statements.outcomes import outcome

_MADE: Final = re.compile(rb"reflectionextension\b")


def reflected(root: Node, lowered: bytes) -> Iterator[Check]:
    """The extensions of one file that are reflected on, by name or in a loop over a list of them.

    ``lowered``: its code in lower case.
    """
    for made in around(root, lowered, _MADE, ("object_creation_expression",)):
        given = next((one for one in made.named_children if one.type == "arguments"), None)
        asked = next(iter(given.named_children), None) if given is not None else None
        asked = asked.named_children[-1] if asked is not None and asked.named_children else None
        told = _where_missing(made)
        if asked is None or not told:
            continue
        if name := extension_called((string(asked) or "").encode("utf-8", "replace")):
            class_name, function = names_around(made)
            ends: Literal["throws", "exits"] = "throws" if function else "exits"
            where = f"{class_name} {function} {heading(made)}".strip()[:200]
            yield Check(name, ends if told == "stops" else told, line(made), text(made)[:60], (), where)
        elif (gone := gone_through(made, asked))[1]:
            yield from members(gone[0], root, told != "warns")


def _where_missing(made: Node) -> Outcome:
    """What the ``catch`` comes to that the place stands in the ``try`` of; nothing else is a statement."""
    attempt = next((above for above, child in ancestors(made) if _tried(above, child)), None)
    handlers = (
        [child for child in attempt.named_children if child.type == "catch_clause"] if attempt is not None else []
    )
    told = (outcome(handler.child_by_field_name("body"), extension=True) for handler in handlers)
    return next(filter(None, told), "")


def _tried(above: Node, child: Node) -> bool:
    return above.type == "try_statement" and above.child_by_field_name("body") == child
