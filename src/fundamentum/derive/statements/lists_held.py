"""Lists of extensions that a program holds against what is loaded: by ``array_diff``, in a loop, for each of them."""

import re
from collections.abc import Iterator
from typing import Final, Literal

from msgspec.structs import replace
from tree_sitter import Node

from fundamentum.derive.php_source.facts import Check, Outcome
from fundamentum.derive.php_source.nodes import (
    Patience,
    ancestors,
    arguments,
    around,
    called,
    heading,
    inside,
    names_around,
    nearest,
    text,
    unwrapped,
)
from fundamentum.derive.php_source.source import CHECKS
from fundamentum.derive.statements.branches import branches, function_of, named_behind, set_by
from fundamentum.derive.statements.consequences import consequences, where_asked
from fundamentum.derive.statements.extension_lists import members, of_array
from fundamentum.derive.statements.kept import list_of
from fundamentum.derive.statements.loops import Loop, loop_of, loops_around
from fundamentum.derive.statements.outcomes import leaves, outcome
from fundamentum.derive.statements.truth import CONDITION

_COMPARING: Final = ("array_diff", "array_udiff", "array_intersect", "array_uintersect")
_COUNTING: Final = frozenset({"for_statement", "while_statement", "do_statement"})
_CHECKS: Final = frozenset({b"extension_loaded", b"function_exists", b"class_exists"})
_ASKING_ONE: Final = re.compile(b"|".join(sorted(_CHECKS)))
_ASKING_ALL: Final = re.compile(
    _ASKING_ONE.pattern + rb"|get_loaded_extensions|in_array|isset|array_key_exists|array_u?(?:diff|intersect)"
)


def held_lists(root: Node, lowered: bytes) -> Iterator[Check]:
    """The extensions of lists that are held against what is loaded.

    ``lowered``: the code of the file in lower case.
    """
    loaded = b"get_loaded_extensions" in lowered
    if not loaded and not any(word in lowered for word in _CHECKS):
        return
    speaking = _ASKING_ALL if loaded else _ASKING_ONE
    for node in around(root, lowered, speaking, ("function_call_expression", "foreach_statement", "while_statement")):
        name = called(node)
        if name.startswith(_COMPARING) and loaded:
            lists = [given for given in arguments(node) if not _loaded_ones(text(given), root)]
            if 0 < len(lists) < len(arguments(node)) and ("intersect" in name or lists[0] == arguments(node)[0]):
                yield from members(lists[0], root, True)
        elif node.type == "foreach_statement":
            yield from _of_loop(node, root)
        elif node.type == "while_statement":
            yield from _of_emptying(node, root)
        elif name in ("array_walk", "array_map") and (done := _walked_by_closure(node)):
            yield from _of_body(*done, root)
        elif name in ("array_filter", "array_map", "array_reduce") and "extension_loaded" in text(node):
            given = [one for one in arguments(node) if "extension_loaded" not in text(one)]
            if given and (name == "array_filter" or _none_may_be_missing(node)):
                yield from members(given[0], root, True)
        elif (asked := _counted_through(node)) is not None and (result := _where_missing(node, extension=False)):
            yield from members(asked, root, result != "warns", CHECKS[name])


def _none_may_be_missing(answers: Node) -> bool:
    """Whether something comes of one *no* among answers.

    ``in_array(false, array_map('extension_loaded', ...))``, ``!array_product(array_map(...))``,
    ``array_sum(array_map(...)) < count(...)``, ``array_reduce(..., fn ($all, $one) => $all && extension_loaded($one))``
    """
    put_together = ("in_array", "array_product", "min", "array_sum", "array_reduce")
    call = next(
        (above for above, _ in [(answers, answers), *ancestors(answers)] if called(above) in put_together), None
    )
    if call is None:
        return False
    absent = False  # what the whole comes to where one is missing
    if called(call) == "in_array":
        absent = text(arguments(call)[0]).lower() == "false"
        if not absent:
            return False
    elif called(call) == "array_sum":
        if call.parent is None or text(call.parent.child_by_field_name("operator")) not in ("<", "!=", "!=="):
            return False
        call, absent = call.parent, True
    told = consequences(call, extension=True)
    return any(holds is absent and result in ("stops", "reports") for holds, result in told)


def _counted_through(call: Node) -> Node | None:
    """The list of which a check asks for one member after the other: ``extension_loaded($list[$number])``"""
    given = arguments(call) if called(call) in CHECKS else []
    if not given or given[0].type != "subscript_expression" or given[0].named_child_count < 2:
        return None
    kept, key = given[0].named_children
    loop = next((above.type for above, _ in ancestors(call) if above.type in _COUNTING), None)
    return kept if loop and kept.type == "variable_name" and key.type == "variable_name" else None


def _of_loop(loop: Node, root: Node) -> Iterator[Check]:
    """``foreach (LIST as $name) { if (!extension_loaded($name)) ... }``"""
    if (over := loop_of(loop)) is not None:
        yield from _of_body(_outermost(over.source, loop), over.target, over.body, root)


def _of_emptying(loop: Node, root: Node) -> Iterator[Check]:
    """``while ($name = array_shift($list)) { if (!extension_loaded($name)) ... }``"""
    condition, body = loop.child_by_field_name("condition"), loop.child_by_field_name("body")
    if condition is None or body is None:
        return
    for taking in inside(condition):
        taken, target = taking.child_by_field_name("right"), taking.child_by_field_name("left")
        if called(taken) in ("array_shift", "array_pop") and taken is not None and target is not None:
            for source in arguments(taken)[:1]:
                yield from _of_body(source, target, body, root)


def _walked_by_closure(call: Node) -> tuple[Node, Node, Node] | None:
    """``array_walk($list, function ($name) { ... })``: the list, the parameters, and what is done for each member."""
    given = arguments(call)
    closure = next((one for one in given if one.type in ("anonymous_function", "arrow_function")), None)
    parameters = closure.child_by_field_name("parameters") if closure is not None else None
    body = closure.child_by_field_name("body") if closure is not None else None
    source = next((one for one in given if one is not closure), None)
    return (source, parameters, body) if source is not None and parameters is not None and body is not None else None


def _of_body(source: Node, target: Node, body: Node, root: Node) -> Iterator[Check]:
    """What is done for each member of a list: whether it asks for that, and what comes of it.

    ``target``: what the member is put into.
    """
    names = {text(target), *Loop(source, target, body).variables}
    for node in inside(body):
        kind = _asks(node, names, root)
        if not kind:
            continue
        if result := _where_missing(node, extension=False):
            yield from members(source, root, result != "warns", kind)
            return
        if result := _where_missing(node, extension=True):  # in words only: that may be a page of information
            where = " ".join((*names_around(node), heading(node)))[:200]
            for check in members(source, root, result != "warns", kind):
                told: Literal["reports", "warns"] = "reports" if check.outcome == "listed-required" else "warns"
                yield replace(check, outcome=told, around=where)
            return
        if result := _behind_the_next(node, names):
            yield from members(source, root, result != "warns", kind)
            return
        yield from _any_one(node, source, root, kind)


def _behind_the_next(asking: Node, names: set[str]) -> Outcome:
    """``if (extension_loaded($name)) continue; if ($about['required']) { $errors[] = $name; }``"""
    there, _ = branches(asking)
    statement = nearest(asking, "if_statement")
    if there is None or statement is None or not leaves(there) or "continue" not in text(there):
        return ""
    following = statement.next_named_sibling
    while following is not None:
        Patience.tick()
        if following.type in ("if_statement", "switch_statement") and any(
            name in text(following)[:200] for name in names
        ):
            return outcome(following, extension=True)
        following = following.next_named_sibling
    return ""


def _any_one(asking: Node, source: Node, root: Node, kind: str) -> Iterator[Check]:
    """``foreach ($any as $one) { if (extension_loaded($one)) { $ok = true; } } if (!$ok) exit;``

    ``source``: a list of such lists.
    """
    there, _ = branches(asking)
    array = list_of(source, root)
    told = (
        result
        for node in (inside(there) if there is not None else ())
        for kept, value in [set_by(node)]
        for place in (named_behind(kept, function_of(node)) if kept is not None and value is True else ())
        for holds, result in where_asked(place, CONDITION)
        if result and not holds
    )
    if array is None or not (result := next(told, "")):
        return
    for element in array.named_children:
        inner = unwrapped(element.named_children[-1]) if element.named_children else None
        if inner is not None and inner.type == "array_creation_expression":
            members = list(of_array(inner, result != "warns", kind, root))
            among = tuple(dict.fromkeys(check.extension for check in members))
            outcome: Literal["exits", "listed-recommended"] = "listed-recommended" if result == "warns" else "exits"
            yield from (replace(check, outcome=outcome, among=among if among[1:] else ()) for check in members)


def _where_missing(asking: Node, *, extension: bool) -> Outcome:
    """What comes of it where what a call asks for is not there."""
    return next((result for holds, result in consequences(asking, extension=extension) if result and not holds), "")


def _asks(node: Node, names: set[str], root: Node) -> str:
    """What a call asks of one of the names: whether it is a loaded extension, a function, a class; empty: nothing."""
    name, given = called(node), arguments(node)
    if name in ("in_array", "array_key_exists") and len(given) > 1:
        return "extension" if _is_one(given[0], names) and _loaded_ones(text(given[1]), root) else ""
    if name == "isset" and given and given[0].type == "subscript_expression" and given[0].named_child_count > 1:
        held, key = given[0].named_children
        return "extension" if _is_one(key, names) and _loaded_ones(text(held), root) else ""
    return CHECKS.get(name, "") if any(_is_one(one, names) for one in given) else ""


def _is_one(node: Node, names: set[str]) -> bool:
    """Whether it is one of the names, or a part of what is kept under one: ``$one['name']``, ``$one->value``."""
    return re.split(r"\[|->", text(node))[0] in names


def _loaded_ones(held: str, root: Node) -> bool:
    """Whether the list of loaded extensions is what is written there, or what that name was given."""
    given = rf"{re.escape(held)}\s*=\s*(?:\w+\(\s*(?:['\"]\w+['\"]\s*,\s*)?)*get_loaded_extensions"
    return "get_loaded_extensions" in held or re.search(given, text(root)) is not None


def _outermost(source: Node, loop: Node) -> Node:
    """What is gone through, where it is itself one of the lists that a loop around goes through."""
    for outer in loops_around(loop):
        if text(source) in outer.variables:
            source = outer.source
    return source
