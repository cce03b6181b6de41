"""Where a result is asked for again that is kept under a key, or that a closure answers with.

``$row['ok'] = extension_loaded($row['name']); ... array_filter($rows, fn ($row) => !$row['ok'])``
``must('GD', function () { return extension_loaded('gd'); });``
"""

import itertools
import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import (
    arguments,
    around,
    called,
    children,
    field,
    nearest,
    parent_of,
    string,
    text,
)
from fundamentum.derive.php_source.scalars import is_true
from fundamentum.derive.statements.branches import root_of
from fundamentum.derive.statements.truth import Worth, climbed

Asked = tuple[Node, Worth]
"""A place that asks for a result, and what it comes to there."""
_LEVELS: Final = r"['\"](?:is_?)?(?:required|mandatory|fatal|must|critical|blocking|optional|level)['\"]"
_LEVEL: Final = re.compile(rf"\[{_LEVELS}\]$", re.I)
_LEVELLED: Final = re.compile(rf"{_LEVELS}\s*=>", re.I)
"""The level of a row, asked for; and in a row that gives its own, which tells what comes of it."""
MAX_ROW: Final = 2000
MAX_PLACES: Final = 20
"""Places that ask for what is under one key: of what more ask for, each is another matter."""
_CLOSURES: Final = frozenset({"anonymous_function", "arrow_function"})
_CALLS: Final = ("function_call_expression",)
_FUNCTIONS: Final = ("function_definition", "method_declaration")


def handed_on(at: Node, worth: Worth) -> Iterator[Asked]:
    """The places that ask for the result of an expression elsewhere."""
    above = at.parent
    if above is None:
        return
    left = field(above, "left") if above.type == "assignment_expression" else None
    if left is not None and left.type == "subscript_expression" and left.named_child_count > 1:
        for place, known in _under_key(left.named_children[1], above, worth):
            yield place, known
            yield from _beside_level(place, known)
    elif above.type == "array_element_initializer" and above.named_child_count > 1:
        if not _LEVELLED.search(text(above.parent)[:MAX_ROW]):
            yield from _under_key(above.named_children[0], above, worth)
    elif (closure := _answering(at)) is not None and closure.parent is not None:
        call = parent_of(closure, 3)
        if called(call) == "array_filter" and call is not None:
            # Those are left for which it answers so: a list of none comes to false.
            yield call, Worth(*(None if value is None else True if is_true(value) else [] for value in worth))
        elif call is not None:
            yield from _called_by(call, closure, worth)


def _answering(at: Node) -> Node | None:
    """The closure that an expression is the answer of."""
    above = at.parent
    if above is not None and above.type == "return_statement":
        closure = nearest(above, *_CLOSURES, *_FUNCTIONS)
        return closure if closure is not None and closure.type in _CLOSURES else None
    return above if above is not None and above.type == "arrow_function" and field(above, "body") == at else None


def _under_key(key: Node, kept: Node, worth: Worth) -> Iterator[Asked]:
    """``if (!$row['ok'])``, further down in the same file."""
    name = string(key)
    root = root_of(kept)
    word = re.compile(rb"\[\s*['\"]%s['\"]\s*\]" % re.escape((name or "").encode("utf-8", "replace")))
    places = around(root, root.text or b"", word, ("subscript_expression",)) if name else iter(())
    for place in itertools.islice(places, MAX_PLACES):
        of_key = place.named_child_count > 1 and string(place.named_children[1]) == name
        given = field(place.parent, "left") == place and place.parent is not None and "assign" in place.parent.type
        if of_key and not given and place.start_byte > kept.end_byte:
            yield place, worth


def _beside_level(asked: Node, worth: Worth) -> Iterator[Asked]:
    """``!$row['ok'] && $row['required']``: of those that are required it comes to what the first part does."""
    for at, known in climbed(asked, worth):
        whole = at.parent
        sides = [text(field(whole, side)) for side in ("left", "right")]
        if text(field(whole, "operator")).lower() in ("&&", "and") and any(map(_LEVEL.search, sides)) and whole:
            yield whole, known


def _called_by(call: Node, closure: Node, worth: Worth) -> Iterator[Asked]:
    """Where a function of the same file calls the closure that it is given."""
    root, name = root_of(call), called(call)
    position = next((number for number, one in enumerate(arguments(call)) if one == closure), None)
    defined = re.compile(rb"function\s++&?\s*+%s\b" % re.escape(name.encode("utf-8", "replace")), re.I)
    for function in around(root, root.text or b"", defined, _FUNCTIONS) if name and position is not None else ():
        parameters = [text(field(one, "name")) for one in children(field(function, "parameters"))]
        taken = parameters[position] if position is not None and position < len(parameters) else ""
        word = re.compile(re.escape(taken.encode("utf-8", "replace")) + rb"\s*\(")
        for place in around(function, root.text or b"", word, _CALLS) if taken else ():
            if called(place) == taken.lower():
                yield place, worth
