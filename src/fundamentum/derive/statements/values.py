"""What an expression comes to, as far as its own file tells: a path below ``__DIR__``, the beginning of a command.

``ROOT . '/cache'`` with ``define('ROOT', __DIR__);`` is ``./cache``; of what is not known, a ``?`` stands.
"""

from collections.abc import Iterator
from itertools import islice, product
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.nodes import Patience, arguments, called, children, field, string, text, unwrapped
from fundamentum.derive.php_source.source import Source
from fundamentum.derive.statements.kept import all_given, list_of, plain_name
from fundamentum.derive.statements.loops import loops_around

HERE: Final = "."
"""The directory of the file itself, at the beginning of a value."""
UNKNOWN: Final = "?"
MAX_VALUES: Final = 40
MAX_DEPTH: Final = 5
MAX_PARTS: Final = 6


def values(node: Node | None, source: Source, depth: int = 0) -> list[str]:
    """The texts that an expression may come to; where a part is not known, ``?`` stands for it."""
    plain = unwrapped(node)
    Patience.tick()
    if plain is None or depth > MAX_DEPTH:
        return [UNKNOWN]
    literal = string(plain)
    if literal is not None:
        return [literal]
    if plain.type == "encapsed_string":
        return _joined([_part(child, source, depth) for child in plain.named_children])
    if plain.type == "binary_expression" and text(field(plain, "operator")) == ".":
        return _joined([values(part, source, depth + 1) for part in _concatenated(plain)])
    if chosen := _alternatives(plain):
        return [value for part in chosen for value in values(part, source, depth + 1)][:MAX_VALUES]
    written = text(plain)
    if written == "__DIR__":
        return [HERE]
    if written in ("DIRECTORY_SEPARATOR", "DS"):
        return ["/"]
    if called(plain) in ("dirname", "realpath", "rtrim", "sprintf", "escapeshellcmd", "escapeshellarg", "trim"):
        return list(_of_call(plain, source, depth))
    if plain.type in ("name", "variable_name", "class_constant_access_expression", "member_access_expression"):
        return list(islice(_kept(plain, source, depth), MAX_VALUES)) or [UNKNOWN]
    return [UNKNOWN]


def _alternatives(node: Node) -> list[Node]:
    """The expressions of which one is taken: ``$config['ocr'] ?? 'tesseract'``, ``$fine ? 'a' : 'b'``"""
    if node.type == "binary_expression" and text(field(node, "operator")) == "??":
        return [side for name in ("left", "right") if (side := field(node, name)) is not None]
    if node.type == "conditional_expression":
        return [side for name in ("body", "alternative") if (side := field(node, name)) is not None]
    return []


def _concatenated(node: Node) -> list[Node]:
    """The parts of ``a . b . c``, the first ones only: what is behind them tells neither a path nor a command."""
    parts: list[Node] = []
    at: Node | None = node
    while at is not None and at.type == "binary_expression" and text(field(at, "operator")) == ".":
        Patience.tick()
        parts += [right] if (right := field(at, "right")) is not None else []
        at = unwrapped(field(at, "left"))
    return [*([at] if at is not None else []), *reversed(parts)][:MAX_PARTS]


def _part(child: Node, source: Source, depth: int) -> list[str]:
    return [text(child)] if child.type in ("string_content", "string_value") else values(child, source, depth + 1)


def _joined(parts: list[list[str]]) -> list[str]:
    return ["".join(chosen) for chosen in islice(product(*parts), MAX_VALUES)]


def _of_call(call: Node, source: Source, depth: int) -> Iterator[str]:
    given = arguments(call)
    if not given:
        return
    if called(call) != "dirname":
        yield from values(given[0], source, depth + 1)
        return
    levels = int(string(given[1]) or "1") if len(given) > 1 and (string(given[1]) or "1").isdigit() else 1
    for value in [HERE] if text(given[0]) == "__FILE__" else values(given[0], source, depth + 1):
        up = levels - (text(given[0]) == "__FILE__")
        yield "/".join([value, *[".."] * min(up, 20)]) if up else value


def _kept(node: Node, source: Source, depth: int) -> Iterator[str]:
    """What a constant or a variable is given in the same file; the members of the list that a loop goes through."""
    for loop in loops_around(node) if node.type == "variable_name" else ():
        if text(node) in loop.variables:
            array = list_of(loop.source, source.root)
            for element in children(array):
                of_key = text(node) == loop.key
                if len(element.named_children) > of_key:
                    yield from values(element.named_children[0 if of_key else -1], source, depth + 1)
            return
    for given in islice(all_given(plain_name(text(node)), source.root), 4):
        yield from values(given, source, depth + 1)
