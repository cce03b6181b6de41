"""Several extensions that are asked for together: each of a list is needed, or any one of them is enough."""

from collections.abc import Iterable, Iterator
from typing import Literal, NamedTuple

from msgspec.structs import replace
from tree_sitter import Node

from fundamentum.derive.php_source.facts import Check, Outcome
from fundamentum.derive.php_source.nodes import (
    Patience,
    ancestors,
    arguments,
    called,
    field,
    inside,
    nearest,
    string,
    text,
    unwrapped,
)
from fundamentum.derive.statements.branches import branches, function_of, named_behind, set_by
from fundamentum.derive.statements.consequences import consequences, where_asked
from fundamentum.derive.statements.extension_lists import listed_at, meant, members, of_array
from fundamentum.derive.statements.kept import list_of
from fundamentum.derive.statements.loops import member
from fundamentum.derive.statements.outcomes import leaves, outcome
from fundamentum.derive.statements.stated_at import comes_of, names_of
from fundamentum.derive.statements.truth import CONDITION, Worth


class Asking(NamedTuple):
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
    those_there: bool = False
    """Whether the answer is a list of those that are there: where only an empty one counts, any one is enough."""


def of_the_list(asking: Asking, source: Node, root: Node) -> Iterator[Check]:
    """The members of a list, with what comes of it where one of them is missing."""
    place, kind = asking.place, asking.kind
    if asking.required:
        checks = list(members(source, root, True, kind))
        of_none = _where_none(place, len(checks)) if asking.those_there else ""
        yield from any_of(checks, of_none) if of_none else checks
    elif told := asking.told or comes_of(place, asking.missing):
        yield from members(source, root, told != "warns", kind)
    elif told := comes_of(place, asking.missing, extension=True):  # in words only: that may be a page of information
        for check in members(source, root, told != "warns", kind):
            result: Literal["reports", "warns"] = "reports" if check.outcome == "listed-required" else "warns"
            yield replace(check, outcome=result, around=names_of(place))
    elif told := _behind_the_next(asking) or _of_too_few(asking, source, root):
        yield from members(source, root, told != "warns", kind)
    elif alternatives := list(_any_one(asking, source, root)):
        yield from alternatives
    elif kind == "extension":  # each is asked for, and nothing comes of it here
        asked = (check for check in members(source, root, False, kind) if check.extension)
        yield from (replace(check, outcome="asked", around=names_of(place)) for check in asked)


def _where_none(place: Node, number: int) -> Outcome:
    """What comes of it where none of a number of extensions is in a list, if it does not where one alone is missing."""
    told = list(where_asked(place, Worth(["there"] * max(number - 1, 1), [])))
    of_one = any(result for one_missing, result in told if one_missing)
    return next((result for one_missing, result in told if result and not one_missing and not of_one), "")


def _behind_the_next(asking: Asking) -> Outcome:
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


def _of_too_few(asking: Asking, source: Node, root: Node) -> Outcome:
    """What comes of it where fewer are counted than there are: ``if (extension_loaded($one)) { $n++; } ... $n < 3``"""
    there, _ = branches(asking.place)
    number = len(list(members(source, root, True, asking.kind)))
    for node in inside(there):
        counter, _ = set_by(node)
        if node.type == "update_expression" and counter is not None and number > 1:
            for asked in named_behind(counter, function_of(counter)):
                told = [one for one in where_asked(asked, Worth(number - 1, number)) if one[1]]
                told += [one for one in _of_all_of(asked, source) if one[1]]
                if results := [result for too_few, result in told if too_few]:
                    return results[0]
    return ""


def _of_all_of(counter: Node, source: Node) -> Iterator[tuple[bool, Outcome]]:
    """What comes of a counter that is compared with the number of a list: ``$n < count($needed)``"""
    comparison = counter.parent
    operator, other = text(field(comparison, "operator")), field(comparison, "right")
    of_list = called(other) in ("count", "sizeof") and [text(one) for one in arguments(other)[:1]] == [text(source)]
    if comparison is not None and of_list and operator in ("<", "!=", "!==", "==", "==="):
        too_few = operator in ("<", "!=", "!==")
        yield from ((holds is too_few, result) for holds, result in consequences(comparison))


def _any_one(asking: Asking, source: Node, root: Node) -> Iterator[Check]:
    """``foreach ($any as $one) { if (extension_loaded($one)) { $ok = true; } } if (!$ok) exit;``

    ``source``: the list, or a list of such lists, in which what stands alone is asked for alone.
    """
    told = _where_none_is_there(asking.place)
    array = list_of(source, root)
    if not told or array is None:
        return
    groups = [array]
    if (innermost := member(asking.names)) is not None and innermost.source != source:
        groups = [one for element in array.named_children if (one := unwrapped(element.named_children[-1])) is not None]
    for group in groups:
        if group.type == "array_creation_expression":
            yield from any_of(of_array(group, told != "warns", asking.kind, root), told)
        elif extension := meant(string(group) or "", asking.kind):
            yield listed_at(extension, told != "warns", group)


def any_of(members_of_it: Iterable[Check], told: Outcome) -> Iterator[Check]:
    """The members of a list of which any one is enough.  ``told``: what comes of it where all are missing."""
    checks = list(members_of_it)
    among = tuple(dict.fromkeys(check.extension for check in checks))
    level: Literal["exits", "listed-recommended"] = "listed-recommended" if told == "warns" else "exits"
    yield from (replace(check, outcome=level, among=among if among[1:] else ()) for check in checks)


def _where_none_is_there(place: Node) -> Outcome:
    """What comes of a variable that one answer alone makes true: ``$ok = true;``, ``$ok = $ok || ...``"""
    there, _ = branches(place)
    made_true, counted = list[Node](), list[Node]()
    for node in inside(there):
        kept, value = set_by(node)
        if kept is not None and value is True:
            (counted if node.type == "update_expression" else made_true).append(kept)
    joined = nearest(place, "binary_expression")
    if joined is not None and text(field(joined, "operator")).lower() in ("||", "or"):
        kept = field(nearest(joined, "assignment_expression"), "left")
        made_true += [kept] if kept is not None and text(kept) in text(joined) else []
    added = nearest(place, "augmented_assignment_expression")
    if added is not None and text(field(added, "operator")) == "|=" and (kept := field(added, "left")) is not None:
        made_true.append(kept)
    worths = [*((kept, CONDITION) for kept in made_true), *((kept, Worth(1, 0)) for kept in counted)]
    asked = ((place, worth) for kept, worth in worths for place in named_behind(kept, function_of(kept)))
    return next((told for one, worth in asked for holds, told in where_asked(one, worth) if told and not holds), "")


def none_may_be_missing(answers: Node) -> bool:
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
        return any(nearest(place, "function_call_expression") and none_may_be_missing(place) for place in later)
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
