"""What a program asks for by names that do not stand where it asks: members of a list, or what a function is given.

``foreach (['intl', 'gd'] as $name) { if (!extension_loaded($name)) exit; }``
``function need($name) { if (!extension_loaded($name)) exit; }``

From where it asks follow two things: where the names come from (``loops.py``, ``extension_lists.py``; what is given to
a function or a class of the program's own is looked for in all files, by ``asked_elsewhere.py``), and what comes of it
where one is missing (``consequences.py``).
"""

import re
from collections.abc import Iterator
from typing import Final, Literal, NamedTuple

from msgspec.structs import replace
from tree_sitter import Node

from fundamentum.derive.php_source.facts import Asker, Check, Outcome
from fundamentum.derive.php_source.nodes import (
    Patience,
    ancestors,
    arguments,
    around,
    called,
    field,
    inside,
    names_around,
    nearest,
    parent_of,
    string,
    text,
    unwrapped,
)
from fundamentum.derive.php_source.scalars import is_true
from fundamentum.derive.php_source.source import CHECKS
from fundamentum.derive.statements.asking_functions import SOURCES, answered, askers_of, collected, parameter_position
from fundamentum.derive.statements.branches import branches, function_of, named_behind, set_by
from fundamentum.derive.statements.consequences import where_asked
from fundamentum.derive.statements.extension_lists import meant, members, named_in, of_array
from fundamentum.derive.statements.kept import list_of
from fundamentum.derive.statements.loops import member, outermost
from fundamentum.derive.statements.outcomes import leaves, outcome
from fundamentum.derive.statements.stated_at import check_at, comes_of, names_of
from fundamentum.derive.statements.truth import CONDITION, climbed

_ASKING_ONE: Final = re.compile(rb"extension_loaded|function_exists|class_exists|reflectionextension\b")
_ASKING_ALL: Final = re.compile(
    _ASKING_ONE.pattern + rb"|get_loaded_extensions|in_array|isset|array_key_exists|array_u?(?:diff|intersect)"
)
_LOADED: Final = b"get_loaded_extensions"
_PLACES: Final = ("function_call_expression", "member_call_expression", "object_creation_expression")
_COMPARING: Final = ("array_diff", "array_udiff", "array_intersect", "array_uintersect")
_KINDS: Final = frozenset({"extension", "function", "class"})


class _Asking(NamedTuple):
    """A place that asks whether something is there."""

    place: Node
    """The expression that answers."""
    names: Node
    """What names the extension, or a list of them."""
    kind: str
    """What the names are of: ``extension``, ``function``, ``class``."""
    missing: bool = False
    """What the answer is, as a truth value, where one is missing."""
    listed: bool = False
    """Whether a list is asked for as a whole."""
    required: bool = False
    """Whether a list is required as soon as it is asked for so."""
    told: Outcome = ""
    """What comes of it where one is missing, if that is known without the answer."""


def asked_names(root: Node, lowered: bytes) -> Iterator[Check | Asker]:
    """The extensions that one file asks for, and its functions and classes that ask for what they are given.

    ``lowered``: its code in lower case.  A check without an extension: of a list that another file has.
    """
    loaded = _LOADED in lowered
    if not loaded and not _ASKING_ONE.search(lowered):
        return
    seen: set[int] = set()
    for place in around(root, lowered, _ASKING_ALL if loaded else _ASKING_ONE, _PLACES):
        for asking in _askings(place, root):
            source, of_list = outermost(asking.names)
            listed = of_list or asking.listed
            yield from _by_functions(asking, source, listed, root)
            if listed and source.id not in seen:
                checks = list(_of_list(asking, source, root))
                seen.update([source.id] if checks else [])
                yield from checks


def _askings(place: Node, root: Node) -> Iterator[_Asking]:
    """What a call asks for, if it does."""
    name, given = called(place), arguments(place)
    if place.type == "object_creation_expression":
        yield from _reflecting(place)
    elif not given:
        return
    elif CHECKS.get(name) in _KINDS:
        yield _Asking(place, given[0], CHECKS[name])
    elif name in ("in_array", "array_key_exists") and len(given) > 1 and _loaded_ones(text(given[1]), root):
        yield _Asking(place, given[0], "extension")
    elif name == "isset" and given[0].type == "subscript_expression" and given[0].named_child_count > 1:
        held, key = given[0].named_children
        if _loaded_ones(text(held), root):
            yield _Asking(place, key, "extension")
    elif name.startswith("call_user_func") and CHECKS.get(string(given[0]) or "") in _KINDS and given[1:]:
        yield _Asking(place, given[1], CHECKS[string(given[0]) or ""])
    elif name.startswith(_COMPARING):
        lists = [one for one in given if not _loaded_ones(text(one), root)]
        if 0 < len(lists) < len(given) and ("intersect" in name or lists[0] == given[0]):
            yield _Asking(place, lists[0], "extension", "intersect" not in name, listed=True, required=True)
    elif name in ("array_filter", "array_map", "array_reduce") and "extension_loaded" in text(place):
        lists = [one for one in given if "extension_loaded" not in text(one)]
        if lists and (name == "array_filter" or _none_may_be_missing(place)):
            yield _Asking(place, lists[0], "extension", listed=True, required=True)
    elif (
        name in ("filter", "reject") and place.type == "member_call_expression" and "extension_loaded" in text(given[0])
    ):
        yield _Asking(place, place.named_children[0], "extension", listed=True, required=True)


def _reflecting(made: Node) -> Iterator[_Asking]:
    """``try { new ReflectionExtension('intl'); } catch (ReflectionException $e) { exit; }``

    What comes of it stands in the ``catch``.
    """
    attempt = next((above for above, child in ancestors(made) if _tried(above, child)), None)
    handlers = [one for one in attempt.named_children if one.type == "catch_clause"] if attempt is not None else []
    told: Outcome = next(filter(None, (outcome(field(one, "body"), extension=True) for one in handlers)), "")
    if told and "reflectionextension" in text(made.named_children[0]).lower():
        yield from (_Asking(made, asked, "extension", told=told) for asked in arguments(made)[:1])


def _tried(above: Node, child: Node) -> bool:
    return above.type == "try_statement" and field(above, "body") == child


def _none_may_be_missing(answers: Node) -> bool:
    """Whether something comes of one *no* among answers.

    ``in_array(false, array_map('extension_loaded', ...))``, ``!array_product(array_map(...))``,
    ``array_sum(array_map(...)) < count(...)``, ``array_reduce(..., fn ($all, $one) => $all && extension_loaded($one))``
    """
    put_together = ("in_array", "array_product", "min", "array_sum", "array_reduce", "array_filter")
    call = next((one for one, _ in [(answers, answers), *ancestors(answers)] if called(one) in put_together), None)
    if call is None:
        assignment = nearest(answers, "assignment_expression")
        kept = field(assignment, "left")
        later = named_behind(kept, function_of(answers)) if kept is not None else ()
        return any(nearest(place, "function_call_expression") and _none_may_be_missing(place) for place in later)
    absent = False  # what the whole comes to where one is missing
    if called(call) == "in_array":
        absent = text(arguments(call)[0]).lower() == "false"
        if not absent:
            return False
    elif called(call) == "array_filter":
        absent = True  # those are left that are missing
    elif called(call) == "array_sum":
        if call.parent is None or text(field(call.parent, "operator")) not in ("<", "!=", "!=="):
            return False
        call, absent = call.parent, True
    return comes_of(call, absent, extension=True) in ("stops", "reports")


def _by_functions(asking: _Asking, source: Node, listed: bool, root: Node) -> Iterator[Check | Asker]:
    """A name that stands there, and functions that ask for what they are given, or that answer by themselves."""
    class_name, function = names_around(asking.place)
    where = f"{class_name} {function}"
    plain = string(source) if not listed else None
    name = meant(plain, asking.kind) if plain is not None else ""
    if name and (asking.told or called(asking.place).startswith("call_user_func")):
        told = asking.told or comes_of(asking.place, asking.missing, extension=True)
        yield check_at(asking.place, name, told, text(asking.place)[:60])
    if plain is None and not listed:
        yield from _by_closure(asking, source, root)
    if not function or asking.told:
        return
    answers = answered(asking.place, missing=asking.missing)
    if plain is None and source.type in SOURCES:
        told = comes_of(asking.place, asking.missing)
        yield from askers_of(asking.place, source, listed, asking.kind, told, answers)
    # Whether functions and classes are there is asked for all over a program, to do one thing or another.
    if called(asking.place) == "extension_loaded" and (answers or (answers := collected(asking.place))):
        of_list = (check.extension for check in members(source, root, True)) if listed else ()
        if names := tuple(filter(None, of_list if listed else [name])):
            yield Asker("answer", function, 0, False, "extension", "", answers, where, names=names)


def _by_closure(asking: _Asking, source: Node, root: Node) -> Iterator[Check]:
    """``$need = function ($name) { if (!extension_loaded($name)) exit; }; $need('intl');``"""
    closure = nearest(asking.place, "anonymous_function", "arrow_function")
    kept = parent_of(closure)
    named = field(kept, "left") if kept is not None and kept.type == "assignment_expression" else None
    position = parameter_position(closure, text(source))
    if named is None or position is None:
        return
    *_, (answer, worth) = climbed(asking.place)
    answers = answer.parent is not None and answer.parent.type in ("return_statement", "arrow_function")
    told = comes_of(asking.place, asking.missing, extension=True)
    word = re.compile(re.escape(text(named).encode("utf-8", "replace")) + rb"\s*\(")
    for call in around(root, root.text or b"", word, _PLACES):
        missing = is_true(worth.failed if not asking.missing else worth.held)
        given = arguments(call)[position:] if called(call) == text(named).lower() else []
        for check in named_in(given, asking.kind, root, listed=False):
            result = told or (comes_of(call, missing, extension=True) if answers else "")
            stated = check_at(call, check.extension, result, f"{text(named)}('{check.extension}')")
            yield replace(stated, around=names_of(asking.place))


def _of_list(asking: _Asking, source: Node, root: Node) -> Iterator[Check]:
    """The members of a list, with what comes of it where one of them is missing."""
    place, kind = asking.place, asking.kind
    if asking.required:
        yield from members(source, root, True, kind)
    elif told := asking.told or comes_of(place, asking.missing):
        yield from members(source, root, told != "warns", kind)
    elif told := comes_of(place, asking.missing, extension=True):  # in words only: that may be a page of information
        for check in members(source, root, told != "warns", kind):
            result: Literal["reports", "warns"] = "reports" if check.outcome == "listed-required" else "warns"
            yield replace(check, outcome=result, around=names_of(place))
    elif told := _behind_the_next(asking):
        yield from members(source, root, told != "warns", kind)
    else:
        yield from _any_one(place, source, root, kind)


def _behind_the_next(asking: _Asking) -> Outcome:
    """``if (extension_loaded($name)) continue; if ($about['required']) { $errors[] = $name; }``"""
    there, _ = branches(asking.place)
    statement, gone_through = nearest(asking.place, "if_statement"), member(asking.names)
    if there is None or statement is None or gone_through is None or not leaves(there) or "continue" not in text(there):
        return ""
    following = statement.next_named_sibling
    while following is not None:
        Patience.tick()
        if following.type in ("if_statement", "switch_statement") and any(
            name in text(following)[:200] for name in gone_through.names
        ):
            return outcome(following, extension=True)
        following = following.next_named_sibling
    return ""


def _any_one(place: Node, source: Node, root: Node, kind: str) -> Iterator[Check]:
    """``foreach ($any as $one) { if (extension_loaded($one)) { $ok = true; } } if (!$ok) exit;``

    ``source``: a list of such lists.
    """
    there, _ = branches(place)
    array = list_of(source, root)
    told = (
        result
        for node in (inside(there))
        for kept, value in [set_by(node)]
        for asked in (named_behind(kept, function_of(node)) if kept is not None and value is True else ())
        for holds, result in where_asked(asked, CONDITION)
        if result and not holds
    )
    if array is None or not (result := next(told, "")):
        return
    for element in array.named_children:
        inner = unwrapped(element.named_children[-1]) if element.named_children else None
        if inner is not None and inner.type == "array_creation_expression":
            checks = list(of_array(inner, result != "warns", kind, root))
            among = tuple(dict.fromkeys(check.extension for check in checks))
            level: Literal["exits", "listed-recommended"] = "listed-recommended" if result == "warns" else "exits"
            yield from (replace(check, outcome=level, among=among if among[1:] else ()) for check in checks)


def _loaded_ones(held: str, root: Node) -> bool:
    """Whether the list of loaded extensions is what is written there, or what that name was given."""
    given = rf"{re.escape(held)}\s*=\s*(?:\w+\(\s*(?:['\"]\w+['\"]\s*,\s*)?)*get_loaded_extensions"
    return "get_loaded_extensions" in held or re.search(given, text(root)) is not None
