"""Limits that a program holds against what it needs: ``if (to_bytes(ini_get('memory_limit')) < 64 * 1024 * 1024)``.

The value may be converted on the way, kept in a variable first, or stand in a constant or a table of limits.
"""

import re
from collections.abc import Iterator
from typing import Final, NamedTuple

from tree_sitter import Node

from fundamentum.catalog.quantity import quantity
from fundamentum.derive.families import LIMITS
from fundamentum.derive.php_source.nodes import (
    Patience,
    ancestors,
    arguments,
    around,
    called,
    children,
    field,
    line,
    names_around,
    nearest,
    string,
    text,
    unwrapped,
    walked,
)
from fundamentum.derive.statements.consequences import consequences
from fundamentum.derive.statements.kept import first_given, kept_part, list_of, plain_name, returned
from fundamentum.derive.statements.loops import loops_around, outermost
from fundamentum.derive.statements.outcomes import WARNING

_SIZES: Final = frozenset({"memory_limit", "upload_max_filesize", "post_max_size"})
ELSEWHERE: Final = "@"
"""Stands before the name of a constant that another file defines, in place of a value; or before that of a table of
limits, in place of a directive."""
_KEPT: Final = re.compile(r"(?:\[['\"]|::|^\$)([A-Za-z]\w{1,40})(?:['\"]\])?$")
"""What a table is called that another file has: ``$config['limits']``, ``Limits::LEAST``."""
LARGEST_OF_MEGABYTES: Final = 4096
"""Below it, a number that a size is compared with is one of megabytes: nobody asks for so few bytes."""
LEAST_SIZE: Final = 2 << 20
_NUMBER: Final = re.compile(r"-?\d+\s*[kKmMgG]?")
_COMPARES: Final = frozenset({"<", "<=", ">", ">="})
_ON_THE_WAY: Final = frozenset(
    {"argument", "arguments", "function_call_expression", "member_call_expression", "scoped_call_expression",
     "cast_expression", "parenthesized_expression", "nullsafe_member_call_expression"}
)  # fmt: skip
"""What a value passes through that is converted before it is compared."""


class Wanted(NamedTuple):
    """A limit that the program compares with a number."""

    directive: str
    least: str
    line: int
    stops: bool
    """Whether the program ends, or reports an error, where it is less."""


def limits_wanted(root: Node, call: Node) -> Iterator[Wanted]:
    """The limits of which one call of ``ini_get`` tells."""
    given = arguments(call)
    name = string(given[0]) if given else None
    if name in LIMITS:
        value, comparison = _least(root, call, name)
        if value:
            yield Wanted(name, value, line(call), _stops(comparison))
    elif given and given[0].type == "variable_name":
        yield from _of_table(root, call, text(given[0]))
        source, listed = outermost(given[0])
        names = list_of(source, root) if listed else None
        for element in children(names):
            plain = string(element.named_children[0]) if element.named_child_count == 1 else None
            value, comparison = _least(root, call, plain) if plain in LIMITS else ("", None)
            if value:
                yield Wanted(plain or "", value, line(element), _stops(comparison))


SPEAKING: Final = (b"$_FILES", b"size")
"""What stands in a file that looks at the size of what was uploaded."""
_SIZE: Final = re.compile(rb"\$\w+(?:\[[^\[\]]{1,40}\]){0,2}\[['\"]size['\"]\]")


def sizes_taken(root: Node, data: bytes) -> Iterator[Wanted]:
    """The largest file that the program takes: ``if ($_FILES['plate']['size'] > MAX_PLATE) exit;``"""
    for comparison in around(root, data, _SIZE, ("binary_expression",)) if all(map(data.count, SPEAKING)) else ():
        operator, left = text(field(comparison, "operator")), field(comparison, "left")
        size = left if operator in (">", ">=") else field(comparison, "right")
        if left is None or size is None or not _SIZE.fullmatch(text(size).encode("utf-8", "replace")):
            continue
        if value := _other_side(root, comparison, size, "upload_max_filesize"):
            yield Wanted("upload_max_filesize", value, line(comparison), False)


_NO_LIMIT: Final = re.compile(r"-\s*1\b|[!=<>]==?\s*['\"]?0\b|>\s*0\b|empty\s*\(|^!?\$\w+$")
"""What a comparison is joined to that lets pass what has no limit: ``$memory != -1 && $memory < ...``"""


def _stops(comparison: Node | None) -> bool:
    while (
        comparison is not None
        and (above := comparison.parent) is not None
        and (above.type == "parenthesized_expression" or _lets_pass_without_limit(above, comparison))
    ):
        Patience.tick()
        comparison = above
    found = consequences(comparison) if comparison is not None else ()
    return any(result in ("stops", "reports") for _, result in found)


def _lets_pass_without_limit(joined: Node, comparison: Node) -> bool:
    """Whether what a comparison is joined to only asks whether there is a limit at all."""
    sides = [field(joined, side) for side in ("left", "right")] if joined.type == "binary_expression" else []
    asks = any(_NO_LIMIT.search(text(side)) for side in sides if side != comparison)
    return asks and text(field(joined, "operator")).lower() in ("&&", "and", "||", "or")


def number_of(written: str, directive: str) -> str:
    """``64 * 1024 * 1024`` as ``64M``, ``134217728`` of a size as ``128M``; empty: it is no number."""
    parts = [part.strip().strip("'\"") for part in written.replace("_", "").strip("() ").split("*")]
    if not all(_NUMBER.fullmatch(part) for part in parts):
        return ""
    product = 1
    for part in parts:
        product *= quantity(part).number
    if product <= 1:
        return ""
    if directive in _SIZES and product < LARGEST_OF_MEGABYTES and written.strip("'\"() ").isdigit():
        return f"{product}M"  # (int) ini_get('memory_limit') of 128M is 128
    if directive in _SIZES and product < LEAST_SIZE:
        return ""  # too little to be what anybody needs: something else is reckoned with it
    if len(parts) == 1 and (directive not in _SIZES or not parts[0].isdigit()):
        return parts[0]
    units = (("G", 1 << 30), ("M", 1 << 20), ("K", 1 << 10))
    return next((f"{product // size}{unit}" for unit, size in units if product % size == 0), str(product))


MAX_DEPTH: Final = 3
"""Functions that return the value of another."""
_CALLS: Final = ("function_call_expression", "member_call_expression", "scoped_call_expression")


def _least(root: Node, value: Node, directive: str, depth: int = 0) -> tuple[str, Node | None]:
    """The number that a value is compared with, at once or once it is kept in a variable, and the comparison."""
    at = value
    for above, child in ancestors(value):
        at = child
        if above.type not in _ON_THE_WAY and not _reckoned(above, at):
            break
    else:
        return "", None
    if above.type == "binary_expression":
        return _other_side(root, above, at, directive), above
    if above.type == "assignment_expression" and field(above, "right") == at:
        return _of_variable(root, above, directive)
    if above.type == "return_statement" and (name := names_around(above)[1]) and depth < MAX_DEPTH:
        calls = around(root, root.text or b"", re.compile(rb"\b%s\s*\(" % re.escape(name.encode()), re.I), _CALLS)
        told = (_least(root, call, directive, depth + 1) for call in calls if called(call) == name)
        return next((found for found in told if found[0]), ("", None))
    return "", None


def _reckoned(above: Node, value: Node) -> bool:
    """Whether a value is only turned into another unit: ``$megabytes * 1024 * 1024``"""
    other = field(above, "right" if field(above, "left") == value else "left")
    of_number = _NUMBER.fullmatch(text(unwrapped(other))) is not None
    return of_number and text(field(above, "operator")) in ("*", "/")


def compared_where(root: Node, call: Node) -> Node | None:
    """Where what a call returns is compared, at once or further down in the same block."""
    comparison = nearest(call, "binary_expression")
    kept = field(nearest(call, "assignment_expression"), "left")
    block = nearest(call, "program", "compound_statement")
    later = (node for node in walked(block) if kept is not None and text(node) == text(kept) and node != kept)
    compared = (nearest(node, "binary_expression") for node in later if node.start_byte > call.end_byte)
    return comparison if comparison is not None else next(filter(None, compared), None)


def _other_side(root: Node, comparison: Node, side: Node, directive: str) -> str:
    if text(field(comparison, "operator")) not in _COMPARES:
        return ""
    left, right = field(comparison, "left"), field(comparison, "right")
    other = right if left == side else left
    return _value(root, other, directive) if other is not None else ""


def _value(root: Node, node: Node, directive: str) -> str:
    """The number that an expression stands for: written there, converted there, or kept under a name in the file."""
    plain = unwrapped(node)
    if plain is None:
        return ""
    if found := number_of(text(plain), directive):
        return found
    if plain.type in _ON_THE_WAY and (given := arguments(plain)):
        return _value(root, given[0], directive)
    if plain.type == "binary_expression" and (found := number_of(_product(root, plain), directive)):
        return found
    name = plain_name(text(plain))
    if called(plain) and (told := returned(called(plain), root)) is not None:
        return number_of(text(told), directive)
    kept = kept_part(plain, root) or first_given(name, root)
    if kept is not None and (found := number_of(text(kept), directive)):
        return found
    return f"{ELSEWHERE}{name}" if plain.type in ("name", "class_constant_access_expression") and name.isupper() else ""


def _product(root: Node, node: Node) -> str:
    """A product with what is kept under the names in it: ``MAX_MB * 1024 * 1024``"""
    parts = [part.strip("() ") for part in text(node).split("*")]
    kept = [None if part[:1].isdigit() else first_given(plain_name(part), root) for part in parts[:MAX_FACTORS]]
    return " * ".join(text(one) if one is not None else part for one, part in zip(kept, parts, strict=False))


MAX_FACTORS: Final = 4


def _of_variable(root: Node, assignment: Node, directive: str) -> tuple[str, Node | None]:
    """What a variable is compared with, further down in the same block."""
    name = text(field(assignment, "left"))
    block = nearest(assignment, "program", "compound_statement")
    for node in walked(block):
        if node.start_byte < assignment.end_byte or node.type != "variable_name" or text(node) != name:
            continue
        found = _least(root, node, directive)
        if found[0]:
            return found
    return "", None


def _least_in(given: Node | None) -> Node | None:
    """What an entry of a table gives as the least: itself, or the first number of ``['128M', 'error']``."""
    if given is None or given.type != "array_creation_expression":
        return given
    parts = [unwrapped(one.named_children[-1]) for one in given.named_children if one.named_children]
    return next((part for part in parts if _NUMBER.fullmatch(string(part) or "")), None)


def _of_table(root: Node, call: Node, name: str) -> Iterator[Wanted]:
    """``foreach (['memory_limit' => '128M'] as $name => $least) { if (ini_get($name) < $least) ... }``"""
    for loop in loops_around(call):
        if loop.key == name and list_of(loop.source, root) is None and (kept := _KEPT.search(text(loop.source))):
            yield Wanted(f"{ELSEWHERE}{kept[1]}", ELSEWHERE, line(call), _stops(compared_where(root, call)))
    for key, given in entries_gone_through(root, call, name):
        least = _least_in(given) if key in LIMITS else None
        if least is not None and (value := _value(root, least, key)):
            comparison = compared_where(root, call)
            compared = (above for above, _ in ancestors(call) if called(above) == "version_compare")
            comparison = comparison if comparison is not None else next(compared, None)
            yield Wanted(key, value, line(given), _stops(comparison) and not WARNING.search(text(given)))


def entries_gone_through(root: Node, place: Node, name: str) -> Iterator[tuple[str, Node]]:
    """Keys and values of the table that a loop around a place goes through, which puts the keys into that variable."""
    for loop in loops_around(place):
        if name not in (loop.key, *loop.variables[:1]):
            continue
        array = list_of(loop.source, root)
        for element in children(array):
            Patience.tick()
            parts = [unwrapped(part) for part in element.named_children]
            # A row without a key has the name in it: ``['memory_limit', '>=', '128M']``
            within = [member for part in parts[:1] if part is not None for member in part.named_children[:1]]
            named = [*within[0].named_children[:1]] if len(parts) == 1 and within else parts[: len(parts) - 1]
            key = string(named[0]) if named else None
            if key is not None and parts[-1] is not None:
                yield key, parts[-1]
        return
