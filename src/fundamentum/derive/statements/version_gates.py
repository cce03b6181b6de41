"""Places where a program itself holds PHP's version against one, and stops or reports an error.

``if (version_compare(PHP_VERSION, '8.1.0', '<')) exit(...)`` says that it needs PHP 8.1.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Gate, Name, Operator, Outcome
from fundamentum.derive.php_source.nodes import (
    Patience,
    ancestors,
    arguments,
    around,
    called,
    heading,
    line,
    names_around,
    string,
    text,
    unwrapped,
)
from fundamentum.derive.php_source.telling_names import TellingNames
from fundamentum.derive.statements.branches import branches
from fundamentum.derive.statements.consequences import consequences
from fundamentum.derive.statements.extension_lists import kept_list
from fundamentum.derive.statements.held_version import EVERY_BRANCH, HeldVersion, branches_that_fit

SPEAKING: Final = re.compile(rb"PHP_VERSION|phpversion|PHP_MAJOR_VERSION")
_OPERATORS: Final[dict[str, Operator]] = {
    "<": "<", "lt": "<", "<=": "<=", "le": "<=", ">": ">", "gt": ">", ">=": ">=", "ge": ">=",
    "==": "==", "eq": "==", "=": "==", "===": "==", "!=": "!=", "ne": "!=", "<>": "!=", "!==": "!=",
}  # fmt: skip
OPPOSITE: Final[dict[Operator, Operator]] = {"<": ">=", "<=": ">", ">": "<=", ">=": "<", "==": "!=", "!=": "=="}
_TURNED: Final[dict[Operator, Operator]] = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "==": "==", "!=": "!="}
_VERSION: Final = re.compile(r"\d{1,2}(?:\.\d{1,3}){0,2}")


_COMPARING: Final = frozenset({"version_compare", "strnatcmp", "strnatcasecmp", "strcmp"})
_FUNCTIONS: Final = ("function_definition", "method_declaration")
_VERBS: Final = rb"(?:require|check|assert|ensure|need|min(?:imum)?)s?_?"
_ASKING_NAME: Final = _VERBS + rb"\w{0,12}php_?(?:version)?|php_?version_?(?:requirement|check)"
_BY_NAME: Final = re.compile(rb"\b(" + _ASKING_NAME + rb")\s*\(\s*['\"](\d{1,2}\.\d{1,2}(?:\.\d{1,2})?)['\"]", re.I)
"""``$this->requirePhp('8.1')``, ``new PhpVersionRequirement('8.1')``"""
ASKING: Final = TellingNames(re.compile(rb"\A(?:" + _ASKING_NAME + rb")\Z"))
"""Functions and classes that ask for a version, by their names in lower case."""


Comparison = tuple[Node, Operator, str | Name, bool, Node]
"""The place, an operator, the version on its right, whether that is an id, and the expression that is true or not."""
Compared = tuple[Operator, str | Name, bool, Node]
"""An operator, the version on its right, whether that is an id, and the expression that is true or not."""


def gates(root: Node, data: bytes, words: frozenset[bytes], compared: Iterable[Comparison]) -> Iterator[Gate]:
    """The statements in one file.

    ``words``: all words in it, in lower case; ``compared``: where it compares PHP's version.
    """
    by_name = ASKING.among(words)
    for node, operator, version, as_id, at in compared:
        found = [(holds, result, "") for holds, result in consequences(at) if result]
        for holds, result, includes in (found or _including(at))[:1]:
            stated = OPPOSITE[operator] if holds else operator
            for meant in _given(version, node, data):
                class_name, function = names_around(node)
                where = f"{class_name} {function} {heading(node)}".strip()[:200] if function else ""
                yield Gate(stated, meant, line(node), text(node)[:60], result, as_id, where, includes)
    for match in _BY_NAME.finditer(data) if by_name else ():
        written = root.descendant_for_byte_range(match.start(2), match.end(2))
        if written is not None and written.type == "string_content":
            yield Gate(">=", match[2].decode(), line(written), match[0].decode("latin-1")[:60], "reports")


def versions_compared(root: Node, data: bytes) -> Iterator[Comparison]:
    """Where PHP's version is compared in one file."""
    if not SPEAKING.search(data):
        return
    held = HeldVersion(data)
    names = [name.encode() for name in held.variables()]
    speaking = re.compile(b"|".join((SPEAKING.pattern, *(re.escape(name) + rb"(?!\w)" for name in names))))
    for node in around(root, data, speaking, ("function_call_expression", "binary_expression")):
        for compared in _compared(node, held, root):
            yield node, *compared


MAX_STATEMENT: Final = 300
"""Characters of a statement that includes a file."""


def _including(condition: Node) -> list[tuple[bool, Outcome, str]]:
    """The file that one of the branches of a condition includes, and nothing else: it may hold what comes of it."""
    found: list[tuple[bool, Outcome, str]] = []
    for branch, holds in zip(branches(condition), (True, False), strict=True):
        lines = [one for one in branch.named_children if one.type != "comment"] if branch is not None else []
        included = lines and re.fullmatch(
            r"(?:include|require)(?:_once)?\b.*?([\w.-]+\.(?:php|inc))['\"]\)?\s*;", text(lines[0])[:MAX_STATEMENT]
        )
        found += [(holds, "", included[1])] if included and len(lines) == 1 else []
    return found


def _given(version: str | Name, node: Node, data: bytes) -> list[str | Name]:
    """The versions that a function is called with, where the one that is asked for is its parameter."""
    if not isinstance(version, Name) or version.kind != "variable":
        return [version]
    function = next((above for above, _ in ancestors(node) if above.type in _FUNCTIONS), None)
    parameters = text(function.child_by_field_name("parameters")) if function is not None else ""
    if function is None or not re.search(rf"\${re.escape(version.name)}\b", parameters):
        return [version]
    name = re.escape(text(function.child_by_field_name("name")).encode("utf-8", "replace"))
    calls = re.findall(rb"(?<!function )\b%s\s*\(\s*['\"](\d{1,2}\.\d{1,2}(?:\.\d{1,2})?)['\"]" % name, data)
    return [call.decode() for call in dict.fromkeys(calls)] or [version]


def _compared(node: Node, held: HeldVersion, root: Node) -> Iterator[Compared]:
    """PHP's version against another, in one expression."""
    if called(node) in _COMPARING:
        yield from _by_function(node, held)
    elif called(node) == "in_array":
        yield from _in_list(node, held, root)
    elif called(node) in ("preg_match", "str_starts_with"):
        yield from _by_beginning(node, held)
    elif node.type == "binary_expression":
        found = _by_parts(node, held) or _by_number(node, held) or _by_operator(node, held)
        yield from [found] if found else []


def _by_operator(node: Node, held: HeldVersion) -> Compared | None:
    operator = _OPERATORS.get(text(node.child_by_field_name("operator")))
    left, right = unwrapped(node.child_by_field_name("left")), unwrapped(node.child_by_field_name("right"))
    if operator is None or left is None or right is None:
        return None
    if held.is_version(right):
        left, right, operator = right, left, _TURNED[operator]
    if not held.is_version(left):
        return None
    as_id = "PHP_VERSION_ID" in text(left)
    version = _version(right)
    return (operator, version, as_id, node) if version is not None else None


def _by_number(node: Node, held: HeldVersion) -> Compared | None:
    """``PHP_MAJOR_VERSION * 100 + PHP_MINOR_VERSION < 801``"""
    operator = _OPERATORS.get(text(node.child_by_field_name("operator")))
    for side, other in (("left", "right"), ("right", "left")) if operator is not None else ():
        factors = held.factors(unwrapped(node.child_by_field_name(side)))
        number = string(unwrapped(node.child_by_field_name(other))) or ""
        if operator is not None and factors is not None and number.isdigit():
            return operator if side == "left" else _TURNED[operator], factors.version(number), False, node
    return None


def _by_parts(node: Node, held: HeldVersion) -> Compared | None:
    """``PHP_MAJOR_VERSION == 7 && PHP_MINOR_VERSION < 4``"""
    if text(node.child_by_field_name("operator")).lower() not in ("&&", "and"):
        return None
    parts = []
    for side, names in (("left", held.major), ("right", held.minor)):
        compared = unwrapped(node.child_by_field_name(side))
        if compared is None or compared.type != "binary_expression":
            return None
        name, number = compared.child_by_field_name("left"), compared.child_by_field_name("right")
        if text(name).replace("(int)", "").strip() not in names or not text(number).isdigit():
            return None
        parts.append((_OPERATORS.get(text(compared.child_by_field_name("operator"))), text(number)))
    (same, major), (operator, minor) = parts
    at = node
    while (above := at.parent) is not None and (
        above.type == "parenthesized_expression"
        or (
            above.type == "binary_expression"
            and any(name in text(above.child_by_field_name("left")) for name in held.major)
        )
    ):
        Patience.tick()
        if above.type == "binary_expression" and text(above.child_by_field_name("operator")).lower() not in (
            "||",
            "or",
        ):
            break
        at = above  # PHP_MAJOR_VERSION > 7 || (PHP_MAJOR_VERSION == 7 && PHP_MINOR_VERSION >= 4)
    return (operator, f"{major}.{minor}", False, at) if same == "==" and operator is not None else None


def _in_list(node: Node, held: HeldVersion, root: Node) -> Iterator[Compared]:
    """``in_array(PHP_MAJOR_VERSION . '.' . PHP_MINOR_VERSION, ['8.1', '8.2'])``: from the first branch to the last."""
    given = arguments(node)
    if len(given) < 2:
        return
    asked = text(given[0])
    both = any(name in asked for name in held.major) and any(name in asked for name in held.minor)
    if (
        not both
        and asked not in held.full | held.major
        and not (called(given[0]) == "substr" and held.is_version(given[0]))
    ):
        return
    array = given[1] if given[1].type == "array_creation_expression" else kept_list(text(given[1]), root)
    elements = (unwrapped(one.named_children[-1]) for one in array.named_children) if array is not None else ()
    listed = [found for element in elements if (found := string(element)) and re.fullmatch(r"\d(?:\.\d{1,2})?", found)]
    if any(name in asked for name in held.minor) or asked not in held.major:
        yield from _from_to(sorted(tuple(map(int, one.split("."))) for one in listed if "." in one), node)
    elif listed and all(map(str.isdigit, listed)):
        yield from _from_to([(int(min(listed)), 0), (int(max(listed)), 9)], node)


def _by_beginning(node: Node, held: HeldVersion) -> Iterator[Compared]:
    """``preg_match('/^8\\./', PHP_VERSION)``, ``str_starts_with(PHP_VERSION, '8.')``"""
    given = arguments(node)
    if len(given) < 2 or not held.is_version(given[1 if called(node) == "preg_match" else 0]):
        return
    if called(node) == "preg_match":
        yield from _from_to(branches_that_fit(string(given[0]) or ""), node)
    elif beginning := string(given[1]):
        yield from _from_to([branch for branch in EVERY_BRANCH if "{}.{}.".format(*branch).startswith(beginning)], node)


def _from_to(branches: Sequence[tuple[int, ...]], node: Node) -> Iterator[Compared]:
    """The branches that are let pass, in order: from the first to the last."""
    if branches:
        major, minor = branches[-1]
        yield ">=", ".".join(map(str, branches[0])), False, node
        yield "<", f"{major}.{minor + 1}" if minor < 9 else f"{major + 1}", False, node


def _by_function(node: Node, held: HeldVersion) -> Iterator[Compared]:
    given = arguments(node)
    if len(given) not in (2, 3):
        return
    left, right = given[0], given[1]
    turned = held.is_version(right)
    if not turned and not held.is_version(left):
        return
    version = _version(left if turned else right)
    operator, at = (_OPERATORS.get(string(given[2]) or ""), node) if len(given) == 3 else _of_number(node)
    if version is not None and operator is not None:
        yield (_TURNED[operator] if turned else operator), version, False, at


def _of_number(node: Node) -> tuple[Operator | None, Node]:
    """``version_compare(...) < 0``: the operator, and the expression around."""
    above = node.parent
    while above is not None and above.type == "parenthesized_expression":
        Patience.tick()
        above = above.parent
    if above is None or above.type != "binary_expression":
        return None, node
    operator = _OPERATORS.get(text(above.child_by_field_name("operator")))
    other = unwrapped(above.child_by_field_name("right"))
    if operator is not None and other is not None and other.start_byte <= node.start_byte < other.end_byte:
        other, operator = unwrapped(above.child_by_field_name("left")), _TURNED[operator]  # -1 === version_compare(...)
    number = text(other).replace(" ", "")
    meaning: dict[tuple[str, str], Operator] = {
        ("==", "-1"): "<", ("<", "0"): "<", ("<=", "-1"): "<", ("!=", "-1"): ">=", (">", "-1"): ">=", (">=", "0"): ">=",
        (">", "0"): ">", ("==", "1"): ">", (">=", "1"): ">", ("<=", "0"): "<=", ("<", "1"): "<=", ("!=", "1"): "<=",
    }  # fmt: skip
    return meaning.get((operator or "", number)), above


def _version(node: Node) -> str | Name | None:
    if node.type == "assignment_expression" and (given := node.child_by_field_name("right")) is not None:
        node = given
    plain = string(node)
    if plain is not None:
        return plain if _VERSION.fullmatch(plain) or (plain.isdigit() and len(plain) < 7) else _leading(plain)
    if node.type in ("name", "qualified_name"):
        return Name("constant", text(node).rpartition("\\")[2])
    if node.type == "class_constant_access_expression":
        return Name("constant", text(node).rpartition("::")[2])
    if node.type == "variable_name":
        return Name("variable", text(node).lstrip("$"))
    if node.type in ("member_access_expression", "scoped_property_access_expression"):
        return Name("variable", re.split(r"->|::\$?", text(node))[-1])
    if node.type == "subscript_expression" and (key := string(node.named_children[-1])):
        return Name("key", key)
    return None


def _leading(plain: str) -> str | None:
    """The version at the beginning of a text such as ``5.6.0-dev``."""
    match = re.match(r"(\d{1,2}\.\d{1,3}(?:\.\d{1,3})?)[^\d.]", plain)
    return match[1] if match else None
