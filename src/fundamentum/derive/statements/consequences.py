"""What comes of a condition in a program: it ends, it reports an error, it recommends something, or neither.

``if (version_compare(...)) exit;``, ``$ok = extension_loaded(...); ... if (!$ok) { $errors[] = ...; }``
"""

import itertools
import re
from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Outcome
from fundamentum.derive.php_source.nodes import (
    Patience,
    arguments,
    around,
    called,
    field,
    function_around,
    heading,
    inside,
    names_around,
    nearest,
    parent_of,
    text,
    walked,
)
from fundamentum.derive.php_source.scalars import is_true
from fundamentum.derive.statements.branches import (
    behind,
    block_of,
    branches,
    function_of,
    given_before,
    loops_over,
    named_behind,
    root_of,
    set_by,
)
from fundamentum.derive.statements.handed_on import handed_on
from fundamentum.derive.statements.outcomes import WARNING, leaves, outcome
from fundamentum.derive.statements.truth import Worth, climbed, literal

_OF_CHECKS: Final = re.compile(
    r"check|requir|support|compat|min(?:imum)?_?(?:php|version)|php_?version|meets|satisf|is_?ok|environment|system|"
    r"install|setup|bootstrap|init|preflight|diagnos|validate|verify|ensure|upgrade|activat|main|run|test",
    re.I,
)
_LEVEL: Final = re.compile(
    r"(?:['\"](?:is_?)?(?:required|mandatory|fatal|must|blocking|critical)['\"]\s*=>|\b(?:required|mandatory|fatal)\s*:)\s*(true\b|false\b|[01]\b|\$\w+)",
    re.I,
)
"""The level that an entry of a table gives, or an argument."""
_CONDITIONAL: Final = ("if_statement", "switch_statement", "foreach_statement", "for_statement", "while_statement")
_SEVERE: Final = re.compile(
    r"::\w*(?:ERROR|FATAL|CRITICAL|REQUIRED|MANDATORY)\b|=>\s*['\"](?:required|mandatory|fatal|critical)['\"]"
)
_ENDS_WHERE: Final = re.compile(r"(?:abort|throw|fail|die|exit|stop|error|fatal|(warn))_?(if|unless)$")
"""``abort_if(...)``, ``throw_unless(...)``: functions that end where they are given what holds, or what does not."""
_ONE_REQUIREMENT: Final = re.compile(r"requirement|check$|(?:config|environ|system|server|install)\w*tests?$", re.I)
"""Classes that are one requirement, or that have a method for each."""
_FULFILLED: Final = re.compile(r"(?:is|test_|check|pass|fulfil|meet|satisf|met)|evaluate|available", re.I)
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
    for at, worth in climbed(condition):
        for holds, told in itertools.chain(_of_branches(at, worth, extension), _elsewhere(at, worth, extension)):
            if told:
                yield holds, told


def _of_branches(at: Node, worth: Worth, extension: bool = False, depth: int = 0) -> Iterator[tuple[bool, Outcome]]:
    """What comes of the branches that an expression decides on, or of what follows them where the first one leaves."""
    then, otherwise = branches(at)
    following = list(behind(at)) if then is not None and otherwise is None and leaves(then) else []
    for holds, true in worth.cases():
        branch = then if true else otherwise
        done = [*([branch] if branch is not None else []), *([] if true else following)]
        found: list[tuple[bool, Outcome]]
        found = [(holds, result) for part in done if (result := outcome(part, extension=extension))]
        if (holds, "stops") not in found and depth < MAX_DEPTH:
            later = itertools.chain.from_iterable(_of_what_it_sets(part, holds, depth) for part in done)
            # What is reported may be looked at further down, and end the program there.
            found = [*(one for one in later if not found or one[1] == "stops"), *found]
        yield from found


def _of_what_it_sets(branch: Node, holds: bool, depth: int) -> Iterator[tuple[bool, Outcome]]:
    """What comes of a variable that a branch adds to, counts up or gives a plain value: ``$absent[] = $name;``"""
    for node in inside(branch):
        kept, value = set_by(node)
        if kept is None or value is None:
            continue
        # Where the branch is not taken, it is what it was, if nothing is only added to it under yet another condition.
        further = nearest(node, *_CONDITIONAL)
        plain = node.type == "assignment_expression" and node == kept.parent
        always = plain and (further is None or further.start_byte < branch.start_byte)
        before = literal(given_before(kept)) if always else None
        worth = Worth(value, before) if holds else Worth(before, value)
        for place in named_behind(kept, function_of(node)):
            yield from where_asked(place, worth, depth + 1)


def _elsewhere(at: Node, worth: Worth, extension: bool, depth: int = 0) -> Iterator[tuple[bool, Outcome]]:
    """A result that is kept, returned or handed on, and of which something comes elsewhere."""
    above = at.parent
    bad = worth.bad()
    if above is None:
        return
    for place, known in handed_on(at, worth) if depth < MAX_DEPTH else ():
        yield from where_asked(place, known, depth + 1)
    if above.type == "exit_statement" or (above.type == "argument" and called(parent_of(above, 2)) in ("exit", "die")):
        yield from ((holds, "reports") for holds, true in worth.cases() if true)  # an exit code that is gathered
    if above.type == "return_statement":
        yield from _of_callers(above, function_around(above), worth, depth)
    if above.type == "assignment_expression":
        yield from _of_variable(above, worth, depth)
        left = text(field(above, "left"))
        if left.endswith("]"):
            yield from _of_loop_over(above, worth)
        elif "->" in left and not left.startswith("$this") and bad is not None:  # of an object that is one result
            yield bad, "reports" if _OF_CHECKS.search(" ".join(names_around(above))) else ""
    elif above.type == "augmented_assignment_expression":
        yield from _of_variable(above, _added(above, worth), depth)
    elif bad is None:
        return
    elif entry := _answering(above):
        yield bad, _of_entry(entry)
        yield from _of_loop_over(entry, worth)
    elif above.type == "return_statement":
        function = function_around(above)
        if not extension and _OF_CHECKS.search(function):
            yield bad, "reports"
        elif extension and (whole := _requirement_around(above)) is not None and _FULFILLED.search(function):
            yield bad, "warns" if _OPTIONAL_CLASS.search(text(whole)[:MAX_CLASS]) else "reports"
    elif above.type == "argument":
        ends = _ENDS_WHERE.search(called(parent_of(above, 2)))
        told: Outcome = "warns" if ends and ends[1] else "stops" if ends else _handed_to(above)
        yield bad is not (ends is not None and ends[2] == "if"), told
    elif above.type == "array_element_initializer":
        yield bad, _level_of(above)
        yield from _of_loop_over(above, worth)
        yield bad, _of_entry(above)


def _added(assignment: Node, worth: Worth) -> Worth:
    """What a variable comes to that a result is added to: ``$ok &= ...``, ``$missing += ... ? 0 : 1``."""
    operator = text(field(assignment, "operator"))
    deciding = {"&=": False, "|=": True, "+=": True}.get(operator)
    return Worth(
        *(
            value if value is not None and is_true(value) is deciding and deciding is not None else None
            for value in worth
        )
    )


def _requirement_around(place: Node) -> Node | None:
    """The class around that is one requirement: ``class IntlRequirement``."""
    found = nearest(place, "class_declaration")
    named = found is not None and _ONE_REQUIREMENT.search(text(field(found, "name")))
    return found if named else None


def _answering(at: Node) -> Node | None:
    """The entry of a table whose function answers with the result: ``'check' => fn() => extension_loaded('gd')``

    Or the argument that is such a function: ``new Requirement('GD', fn() => extension_loaded('gd'))``
    """
    while at.type in ("return_statement", "compound_statement", "anonymous_function", "arrow_function"):
        Patience.tick()
        if at.type.endswith("_function"):
            return at.parent if at.parent is not None and at.parent.type in _HOLDING else None
        if at.parent is None:
            break
        at = at.parent
    return None


_HOLDING: Final = frozenset({"array_element_initializer", "argument"})


def _of_entry(element: Node) -> Outcome:
    """What a table is for that has the result in it, and what else stands in the same entry of it."""
    if level := _level_of(element):
        return level
    returned = parent_of(element, 2)
    if returned is not None and returned.type == "return_statement" and not function_around(returned):
        return "reports"  # a file that returns its results
    call = element.parent.parent if element.type == "argument" and element.parent is not None else None
    return "reports" if _OF_CHECKS.search(f"{heading(element)} {text(call)[:40]} {text(element)[:40]}") else ""


def _level_of(element: Node) -> Outcome:
    """The level that the entry of a table gives, in words or as a value."""
    entry = text(element.parent)[:400] if element.parent is not None else ""
    if level := _LEVEL.search(entry):
        said = level[1] if not level[1].startswith("$") else _last_given(level[1], element)
        return "reports" if said.lower() in ("true", "1") else "warns" if said else ""
    return "reports" if _SEVERE.search(entry) else "warns" if WARNING.search(entry) else ""


def _last_given(variable: str, place: Node) -> str:
    """The plain value that a variable is given last before a place: ``$must = FALSE;``"""
    before = (root_of(place).text or b"")[max(place.start_byte - MAX_BEFORE, 0) : place.start_byte]
    given = re.findall(rb"%s\s*=\s*(true|false|[01])\s*;" % re.escape(variable.encode()), before, re.I)
    return given[-1].decode() if given else ""


MAX_BEFORE: Final = 2000
"""Characters before a place in which a variable is given a value."""


def _of_loop_over(element: Node, worth: Worth) -> Iterator[tuple[bool, Outcome]]:
    """What comes of a result in a table that a loop goes through: ``foreach ($checks as $ok) { if (!$ok) exit; }``"""
    table = element
    while table.parent is not None and table.type in ("array_element_initializer", "array_creation_expression"):
        Patience.tick()
        table = table.parent
    kept = field(table, "left") if table.type == "assignment_expression" else None
    if kept is not None and kept.type == "subscript_expression":
        kept = kept.named_children[0]
    for loop in loops_over(kept, block_of(table)) if kept is not None else ():
        for node in inside(loop.body):
            of_value = node.child(0) if node.type == "subscript_expression" else node
            if (call := node.parent) is not None and field(call, "function") == node:
                node = call  # what is in the table answers once it is called
            if [text(of_value)] == loop.variables[-1:] and (
                node.parent is None or node.parent.type != "subscript_expression"
            ):
                yield from where_asked(node, worth)
    for place in named_behind(kept, block_of(table)) if kept is not None else ():
        call = nearest(place, "function_call_expression")
        if called(call) == "in_array" and call is not None and text(arguments(call)[0]).lower() == "false":
            yield from where_asked(call, Worth(None, worth.failed is not None and not is_true(worth.failed)))


def where_asked(kept: Node, worth: Worth, depth: int = 0) -> Iterator[tuple[bool, Outcome]]:
    """What comes of a result at a place that asks for what it was put into."""
    for at, known in climbed(kept, worth):
        yield from _of_branches(at, known, depth=depth)
        passed_on = at.parent is not None and (at.parent.type in _PASSING or at == field(at.parent, "right"))
        if depth < MAX_DEPTH and (passed_on or at is not kept):
            yield from _elsewhere(at, known, False, depth + 1)


_PASSING: Final = frozenset({"return_statement", "array_element_initializer", "exit_statement", "argument"})
MAX_DEPTH: Final = 4
"""How often a result is put from one place into another."""


def _handed_to(argument: Node) -> Outcome:
    """What a function is for that is given the result: ``addRequirement(extension_loaded('gd'), '...')``."""
    call = parent_of(argument, 2)
    name = called(call)
    if WARNING.search(name):
        return "warns"
    return "reports" if _OF_CHECKS.search(f"{name} {function_around(argument)} {text(argument)[:40]}") else ""


def _of_callers(place: Node, function: str, worth: Worth, depth: int) -> Iterator[tuple[bool, Outcome]]:
    """What comes of the result of a function where it is called in the same file."""
    root = root_of(place)
    if not function or not root.text:
        return
    kinds = ("function_call_expression", "member_call_expression", "scoped_call_expression")
    for call in around(root, root.text, re.compile(rb"\b%s\s*\(" % re.escape(function.encode())), kinds):
        if called(call) == function.lower():
            yield from where_asked(call, worth, depth)


def _of_variable(assignment: Node, worth: Worth, depth: int) -> Iterator[tuple[bool, Outcome]]:
    """What comes of a result that was put into a variable, further down in the same block."""
    kept = field(assignment, "left")
    for node in walked(block_of(assignment)) if kept is not None and worth != (None, None) else ():
        if (
            kept is not None
            and node.start_byte >= assignment.end_byte
            and (node.type, text(node)) == (kept.type, text(kept))
        ):
            yield from where_asked(node, worth, depth)
