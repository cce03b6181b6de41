"""What a program asks for by names that do not stand where it asks: members of a list, or what a function is given.

``foreach (['intl', 'gd'] as $name) { if (!extension_loaded($name)) exit; }``
``function need($name) { if (!extension_loaded($name)) exit; }``

From where it asks follow two things: where the names come from (``loops.py``, ``extension_lists.py``; what is given to
a function or a class of the program's own is looked for in all files, by ``asked_elsewhere.py``), and what comes of it
where one is missing (``consequences.py``).
"""

import re
from collections.abc import Iterator
from typing import Final

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
    names_around,
    nearest,
    parent_of,
    string,
    text,
)
from fundamentum.derive.php_source.scalars import is_true
from fundamentum.derive.php_source.source import CHECKS
from fundamentum.derive.statements.asking_functions import SOURCES, answered, askers_of, collected, parameter_position
from fundamentum.derive.statements.extension_lists import meant, members, named_in
from fundamentum.derive.statements.kept import plain_name, text_of
from fundamentum.derive.statements.loops import outermost
from fundamentum.derive.statements.outcomes import outcome
from fundamentum.derive.statements.several_asked import Asking, none_may_be_missing, of_the_list
from fundamentum.derive.statements.stated_at import check_at, comes_of, names_of
from fundamentum.derive.statements.truth import climbed

_ASKING_ONE: Final = re.compile(rb"extension_loaded|function_exists|class_exists|reflectionextension\b")
_ASKING_ALL: Final = re.compile(
    _ASKING_ONE.pattern + rb"|get_loaded_extensions|in_array|isset|array_key_exists|array_u?(?:diff|intersect)"
)
_LOADED: Final = re.compile(rb"get_loaded_extensions|getavailabledrivers|disable_functions")
_LISTS: Final = (
    ("get_loaded_extensions", "extension"),
    ("getAvailableDrivers", "driver"),
    ("disable_functions", "function"),
)
_PLACES: Final = ("function_call_expression", "member_call_expression", "object_creation_expression")
_COMPARING: Final = ("array_diff", "array_udiff", "array_intersect", "array_uintersect")
_KINDS: Final = frozenset({"extension", "function", "class"})


def asked_names(root: Node, lowered: bytes) -> Iterator[Check | Asker]:
    """The extensions that one file asks for, and its functions and classes that ask for what they are given.

    ``lowered``: its code in lower case.  A check without an extension: of a list that another file has.
    """
    loaded = _LOADED.search(lowered) is not None
    if not loaded and not _ASKING_ONE.search(lowered):
        return
    seen: set[int] = set()
    for place in around(root, lowered, _ASKING_ALL if loaded else _ASKING_ONE, _PLACES):
        for asking in _askings(place, root):
            source, of_list = outermost(_bare(asking.names))
            listed = of_list or asking.listed
            if source.type == "class_constant_access_expression" and not text_of(source, root):
                yield from _of_another_file(asking, source)
            yield from _by_functions(asking, source, listed, root)
            if listed and source.id not in seen:
                checks = list(of_the_list(asking, source, root))
                seen.update([source.id] if checks else [])
                yield from checks


def _bare(name: Node) -> Node:
    """A name without what only trims it."""
    while called(name) in ("trim", "strtolower", "rtrim", "ltrim") and arguments(name):
        Patience.tick()
        name = arguments(name)[0]
    return name


def _of_another_file(asking: Asking, source: Node) -> Iterator[Check]:
    """``if (!extension_loaded(Needs::EXTENSION)) exit;``: a check of no extension yet."""
    told = comes_of(asking.place, asking.missing, extension=True)
    if told and asking.kind == "extension":
        yield replace(check_at(asking.place, "", told, text(asking.place)[:60]), list_name=plain_name(text(source)))


def _askings(place: Node, root: Node) -> Iterator[Asking]:
    """What a call asks for, if it does."""
    name, given = called(place), arguments(place)
    if place.type == "object_creation_expression":
        yield from _reflecting(place)
    elif not given:
        return
    elif CHECKS.get(name) in _KINDS:
        yield Asking(place, given[0], CHECKS[name])
    elif name in ("in_array", "array_key_exists") and len(given) > 1 and (kind := _loaded_ones(text(given[1]), root)):
        yield Asking(place, given[0], kind, missing=kind == "function")
    elif name == "isset" and given[0].type == "subscript_expression" and given[0].named_child_count > 1:
        held, key = given[0].named_children
        if _loaded_ones(text(held), root):
            yield Asking(place, key, "extension")
    elif name.startswith("call_user_func") and CHECKS.get(string(given[0]) or "") in _KINDS and given[1:]:
        yield Asking(place, given[1], CHECKS[string(given[0]) or ""])
    elif name.startswith(_COMPARING):
        lists = [one for one in given if not _loaded_ones(text(one), root)]
        if 0 < len(lists) < len(given) and ("intersect" in name or lists[0] == given[0]):
            those_there = "intersect" in name
            kind = next(filter(None, (_loaded_ones(text(one), root) for one in given)))
            yield Asking(place, lists[0], kind, not those_there, listed=True, required=True, those_there=those_there)
    elif name in ("array_filter", "array_map", "array_reduce") and "extension_loaded" in text(place):
        lists = [one for one in given if "extension_loaded" not in text(one)]
        if lists and (name == "array_filter" or none_may_be_missing(place)):
            those_there = name == "array_filter" and "!" not in text(place)
            yield Asking(place, lists[0], "extension", listed=True, required=True, those_there=those_there)
    elif (
        name in ("filter", "reject") and place.type == "member_call_expression" and "extension_loaded" in text(given[0])
    ):
        yield Asking(place, place.named_children[0], "extension", listed=True, required=True)


def _reflecting(made: Node) -> Iterator[Asking]:
    """``try { new ReflectionExtension('intl'); } catch (ReflectionException $e) { exit; }``

    What comes of it stands in the ``catch``.
    """
    attempt = next((above for above, child in ancestors(made) if _tried(above, child)), None)
    handlers = [one for one in attempt.named_children if one.type == "catch_clause"] if attempt is not None else []
    told: Outcome = next(filter(None, (outcome(field(one, "body"), extension=True) for one in handlers)), "")
    if told and "reflectionextension" in text(made.named_children[0]).lower():
        yield from (Asking(made, asked, "extension", told=told) for asked in arguments(made)[:1])


def _tried(above: Node, child: Node) -> bool:
    return above.type == "try_statement" and field(above, "body") == child


def _by_functions(asking: Asking, source: Node, listed: bool, root: Node) -> Iterator[Check | Asker]:
    """A name that stands there, and functions that ask for what they are given, or that answer by themselves."""
    class_name, function = names_around(asking.place)
    where = f"{class_name} {function}"
    plain = string(source) or text_of(source, root) or None if not listed else None
    name = meant(plain, asking.kind) if plain is not None else ""
    written = string(source) is not None and not called(asking.place).startswith("call_user_func")
    if name and (asking.told or asking.missing or not written):
        told = asking.told or comes_of(asking.place, asking.missing, extension=True)
        yield check_at(asking.place, name, told, text(asking.place)[:60])
    if plain is None and not listed:
        yield from _by_closure(asking, source, root)
    if name and asking.kind == "extension" and (kept := _kept_under(asking.place)):
        yield Asker("kept", kept[0], 0, False, "extension", "", kept[1], where, names=(name,))
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


def _kept_under(place: Node) -> tuple[str, str] | None:
    """The constant or static property that an answer is kept under, and when it is true: ``define('HAS_GD', ...)``"""
    for at, worth in climbed(place):
        outer = at.parent
        definition = parent_of(outer, 2) if outer is not None and outer.type == "argument" else None
        left = field(outer, "left") if outer is not None and outer.type == "assignment_expression" else None
        name = (string(arguments(definition)[0]) or "") if called(definition) == "define" else ""
        if left is not None and left.type == "scoped_property_access_expression":
            name = re.sub(r"^(?:self|static)(?=::)", names_around(place)[0], text(left))
        if name and (bad := worth.bad()) is not None:
            return name, "missing" if bad else "present"
    return None


def _by_closure(asking: Asking, source: Node, root: Node) -> Iterator[Check]:
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


def _loaded_ones(held: str, root: Node) -> str:
    """What a list is of that stands there, or that was given to that name: loaded extensions, or PDO's drivers.

    Or functions, of those that are switched off.
    """
    for listing, kind in _LISTS:
        given = rf"{re.escape(held)}\s*=\s*(?:\w+\(\s*(?:['\"][\w,;]+['\"]\s*,\s*)?)*(?:PDO::|['\"])?{listing}"
        if listing in held or re.search(given, text(root)):
            return kind
    return ""
