"""What comes of a condition in a program: it ends, it reports an error, it recommends something, or neither.

``if (version_compare(...)) exit;``, ``$ok = extension_loaded(...); ... if (!$ok) { $errors[] = ...; }``
"""

import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Outcome
from fundamentum.derive.php_source.nodes import (
    Patience,
    ancestors,
    around,
    called,
    function_around,
    heading,
    inside,
    text,
    unwrapped,
    walked,
)
from fundamentum.derive.statements.outcomes import WARNING, outcome

_OF_CHECKS: Final = re.compile(
    r"check|requir|support|compat|min(?:imum)?_?(?:php|version)|php_?version|meets|satisf|is_?ok|environment|system|"
    r"install|setup|bootstrap|init|preflight|diagnos|validate|verify|ensure|upgrade|activat|main|run|test",
    re.I,
)
_LEVEL: Final = re.compile(r"['\"](?:is_?)?(?:required|mandatory|fatal)['\"]\s*=>\s*(true|false|[01])\b", re.I)
"""The level that an entry of a table gives."""
_ENDS_WHERE: Final = re.compile(r"(?:abort|throw|fail|die|exit|stop|error)_?(if|unless)$")
"""``abort_if(...)``, ``throw_unless(...)``: functions that end where they are given what holds, or what does not."""
_FULFILLED: Final = re.compile(r"(?:is|check|pass|fulfil|meet|satisf|met)|evaluate|available", re.I)
_OPTIONAL_CLASS: Final = re.compile(
    r"function\s+\w*(?:mandatory|required|critical|fatal)\w*\s*\([^)]*\)[^{]*\{\s*return\s+false|"
    r"function\s+\w*optional\w*\s*\([^)]*\)[^{]*\{\s*return\s+true",
    re.I,
)
"""How a class that is one requirement says that it need not be met."""
MAX_CLASS: Final = 4000
"""Characters of such a class that are looked at."""


def consequences(condition: Node, *, extension: bool = False) -> Iterator[tuple[bool, Outcome]]:
    """For an expression: what comes of it where it holds, and where it does not, as far as that depends on it alone.

    ``extension``: it asks for an extension, so that words such as *missing* speak of that.
    """
    holds, at = True, condition
    while (above := at.parent) is not None:
        Patience.tick()
        if above.type == "unary_op_expression" and text(above).startswith("!"):
            holds = not holds
        elif above.type == "binary_expression":
            operator = text(above.child_by_field_name("operator")).lower()
            # Of "a or b" each alone leads into the branch; of "a and b" neither does.
            if operator not in (("||", "or") if holds else ("&&", "and")) or _is_statement(above):
                break
        elif above.type != "parenthesized_expression":
            break
        at = above
    then, otherwise = branches(at)
    yield holds, outcome(then, extension=extension)
    yield not holds, outcome(otherwise, extension=extension)
    yield from _elsewhere(at, holds, extension)


def _is_statement(node: Node) -> bool:
    """Whether it stands for itself: ``... or die('...')``."""
    return node.parent is not None and node.parent.type == "expression_statement"


def _elsewhere(at: Node, holds: bool, extension: bool) -> Iterator[tuple[bool, Outcome]]:
    """A result that is kept, returned or handed on, and of which something comes elsewhere."""
    above = at.parent
    if above is None:
        return
    if entry := _answering(above):
        yield not holds, _of_entry(entry)
    elif above.type == "return_statement":
        function = function_around(above)
        yield from _of_callers(above, function, holds)
        if not extension and _OF_CHECKS.search(function):
            yield not holds, "reports"
        elif extension and (whole := _requirement_around(above)) is not None and _FULFILLED.search(function):
            yield not holds, "warns" if _OPTIONAL_CLASS.search(text(whole)[:MAX_CLASS]) else "reports"
    elif above.type == "assignment_expression":
        yield from _of_variable(above, holds)
    elif above.type == "argument":
        ends = _ENDS_WHERE.search(called(above.parent.parent if above.parent is not None else None))
        yield (holds, "stops") if ends and ends[1] == "if" else (not holds, "stops" if ends else _handed_to(above))
    elif above.type == "array_element_initializer":
        yield not holds, _level_of(above)
        yield from _of_loop_over(above, holds)
        yield not holds, _of_entry(above)


def _requirement_around(place: Node) -> Node | None:
    """The class around that is one requirement: ``class IntlRequirement``."""
    found = next((above for above, _ in ancestors(place) if above.type == "class_declaration"), None)
    named = found is not None and re.search(r"requirement|check$", text(found.child_by_field_name("name")), re.I)
    return found if named else None


def _answering(at: Node) -> Node | None:
    """The entry of a table whose function answers with the result: ``'check' => fn() => extension_loaded('gd')``"""
    while at.type in ("return_statement", "compound_statement", "anonymous_function", "arrow_function"):
        Patience.tick()
        if at.type.endswith("_function"):
            return at.parent if at.parent is not None and at.parent.type == "array_element_initializer" else None
        if at.parent is None:
            break
        at = at.parent
    return None


def _of_entry(element: Node) -> Outcome:
    """What a table is for that has the result in it, and what else stands in the same entry of it."""
    if level := _level_of(element):
        return level
    return "reports" if _OF_CHECKS.search(f"{heading(element)} {text(element)[:40]}") else ""


def _level_of(element: Node) -> Outcome:
    """The level that the entry of a table gives, in words or as a value."""
    entry = text(element.parent)[:400] if element.parent is not None else ""
    if level := _LEVEL.search(entry):
        return "reports" if level[1].lower() in ("true", "1") else "warns"
    return "warns" if WARNING.search(entry) else ""


def _of_loop_over(element: Node, holds: bool) -> Iterator[tuple[bool, Outcome]]:
    """What comes of a result in a table that a loop goes through: ``foreach ($checks as $ok) { if (!$ok) exit; }``"""
    table = element
    while table.parent is not None and table.type in ("array_element_initializer", "array_creation_expression"):
        Patience.tick()
        table = table.parent
    kept = table.child_by_field_name("left") if table.type == "assignment_expression" else None
    for loop in _loops_over(kept, _block_of(table)) if kept is not None else ():
        parts = [child for child in loop.named_children if child.type != "comment"]
        body = loop.child_by_field_name("body")
        if body is None or text(parts[0]) != text(kept):
            continue
        value = [text(one) for one in walked(parts[1]) if one.type == "variable_name"][-1:]
        for node in inside(body):
            of_value = node.child(0) if node.type == "subscript_expression" else node
            if [text(of_value)] == value and (node.parent is None or node.parent.type != "subscript_expression"):
                yield from _where_asked(node, holds)


def _loops_over(kept: Node, block: Node) -> Iterator[Node]:
    """The loops of a block that go through what is kept under a name, behind the place where it is put there."""
    root = _root_of(block)
    named = re.compile(rb"foreach\s*\(\s*%s\b" % re.escape(text(kept).encode("utf-8", "replace")))
    for loop in around(root, root.text or b"", named, ("foreach_statement",)):
        if kept.end_byte <= loop.start_byte < block.end_byte:
            yield loop


def _root_of(node: Node) -> Node:
    while node.parent is not None:
        Patience.tick()
        node = node.parent
    return node


def _block_of(node: Node) -> Node:
    """The block that a statement stands in; the whole file, if there is none."""
    while node.parent is not None and node.type not in ("program", "compound_statement"):
        Patience.tick()
        node = node.parent
    return node


def _where_asked(kept: Node, holds: bool) -> Iterator[tuple[bool, Outcome]]:
    """What comes of a result at a place that asks for what it was put into."""
    above = kept.parent
    inverted = above is not None and above.type == "unary_op_expression"
    then, otherwise = branches(above if inverted and above is not None else kept)
    yield holds is not inverted, outcome(then)
    yield holds is inverted, outcome(otherwise)


def _handed_to(argument: Node) -> Outcome:
    """What a function is for that is given the result: ``addRequirement(extension_loaded('gd'), '...')``."""
    call = argument.parent.parent if argument.parent is not None else None
    name = called(call)
    if WARNING.search(name):
        return "warns"
    return "reports" if _OF_CHECKS.search(f"{name} {function_around(argument)} {text(argument)[:40]}") else ""


def _of_callers(place: Node, function: str, holds: bool) -> Iterator[tuple[bool, Outcome]]:
    """What comes of the result of a function where it is called in the same file."""
    root = _root_of(place)
    if not function or not root.text:
        return
    kinds = ("function_call_expression", "member_call_expression", "scoped_call_expression")
    for call in around(root, root.text, re.compile(rb"\b%s\s*\(" % re.escape(function.encode())), kinds):
        if called(call) == function.lower():
            yield from _where_asked(call, holds)


def _of_variable(assignment: Node, holds: bool) -> Iterator[tuple[bool, Outcome]]:
    """What comes of a result that was put into a variable, further down in the same block."""
    kept = assignment.child_by_field_name("left")
    for node in walked(_block_of(assignment)) if kept is not None else ():
        if (
            kept is not None
            and node.start_byte >= assignment.end_byte
            and (node.type, text(node)) == (kept.type, text(kept))
        ):
            yield from _where_asked(node, holds)


def branches(condition: Node) -> tuple[Node | None, Node | None]:
    """What is done where a condition holds, and where it does not: of an ``if``, of ``or die``, of ``? :``."""
    at: Node = condition
    while at.parent is not None and at.parent.type == "parenthesized_expression":
        Patience.tick()
        at = at.parent
    above = at.parent
    if above is None:
        return None, None
    if above.type in ("if_statement", "else_if_clause") and above.child_by_field_name("condition") == at:
        return above.child_by_field_name("body"), above.child_by_field_name("alternative")
    if above.type == "case_statement" and above.child_by_field_name("value") == at:
        return above, None  # of a switch (true): what stands behind it
    if above.type == "match_condition_list":
        return _of_match(above)
    if above.type == "conditional_expression":
        return above.child_by_field_name("body"), above.child_by_field_name("alternative")
    if above.type == "binary_expression" and above.child_by_field_name("left") == at:
        operator = text(above.child_by_field_name("operator")).lower()
        if above.parent is not None and above.parent.type == "expression_statement":
            if operator in ("or", "||"):
                return None, above.child_by_field_name("right")
            if operator in ("and", "&&"):
                return above.child_by_field_name("right"), None
    return None, None


def _of_match(conditions: Node) -> tuple[Node | None, Node | None]:
    """The arm of ``match (true)``, which is taken where the condition holds, and of ``match (false)``, where not."""
    arm = conditions.parent
    whole = arm.parent.parent if arm is not None and arm.parent is not None else None
    asked = unwrapped(whole.named_children[0]) if whole is not None else None
    done = arm.named_children[-1] if arm is not None else None
    return {"true": (done, None), "false": (None, done)}.get(text(asked).lower(), (None, None))
