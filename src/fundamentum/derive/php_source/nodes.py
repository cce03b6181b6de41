"""Questions that several readers ask of a parsed PHP file: what a string holds, what a branch of the code comes to."""

import itertools
import re
import time
from collections.abc import Collection, Iterator
from functools import cache
from typing import ClassVar, Final

import tree_sitter
import tree_sitter_php
from tree_sitter import Node

FUNCTIONS: Final = frozenset(
    {"function_definition", "method_declaration", "anonymous_function", "anonymous_function_creation_expression"}
    | {"arrow_function", "class_declaration", "anonymous_class"}
)


class TooLong(RecursionError):
    """A file takes longer than code as people write it does."""


MAX_NESTED: Final = 400
"""Levels of syntax; nobody writes that many, and to climb through thousands takes minutes."""
PATIENCE: Final = 3.0
"""Seconds that one file may take; an honest one takes less than a tenth of that."""
_ASKED_ONCE_IN: Final = 16
"""Questions after which the clock is looked at: that takes longer than most of them do."""
_questions: Final = itertools.count()


class Patience:
    """How long the questions below may take, together, for one file: time at work, the same on a busy machine.

    What stands around a node is looked for from the top of the tree: in code that is nested without end that takes
    without end too.
    """

    ends: ClassVar = float("inf")

    @classmethod
    def begin(cls) -> None:
        """The time for one file begins."""
        cls.ends = time.thread_time() + PATIENCE

    @classmethod
    def tick(cls) -> None:
        """Is there time left?"""
        if next(_questions) % _ASKED_ONCE_IN == 0 and time.thread_time() > cls.ends:
            raise TooLong


@cache
def parser() -> tree_sitter.Parser:
    """The parser for PHP."""
    return tree_sitter.Parser(tree_sitter.Language(tree_sitter_php.language_php()))


LARGE_FILE: Final = 150_000
"""Bytes below which no file takes the parser long, whatever stands in it."""
_SLICE: Final = 2048
PARSING: Final = 5.0
"""Seconds that the parser may work on one file; for the largest that people write it takes two."""


_BRACED: Final = re.compile(rb"(?P<of>\$\w++(?:->\w++|\[[^\[\]\n]{0,60}\])*+)\{(?P<offset>[^{}\n]{1,60})\}")
"""``$text{0}``, which PHP took until 8.0 and the parser does not."""
MAX_BRACED: Final = 2
"""Offsets in braces within each other."""


def parsed(data: bytes) -> Node:
    """The tree of a file, its offsets in braces as those in brackets, of the same length."""
    root = _parsed(data)
    if not root.has_error or not _BRACED.search(data):
        return root
    written = data
    for _ in range(MAX_BRACED):
        written = _BRACED.sub(rb"\g<of>[\g<offset>]", written)
    return _parsed(written)


def _parsed(data: bytes) -> Node:
    """The tree of a file.  ``TooLong`` where the parser takes longer than for any code that people write.

    It can be stopped only where it reads piece by piece, and what is read so is slow to look at: therefore the tree is
    taken over to the whole text, which costs little.
    """
    if len(data) <= LARGE_FILE:
        return parser().parse(data).root_node
    ends = time.thread_time() + PARSING
    try:
        tree = parser().parse(
            lambda at, _: data[at : at + _SLICE], progress_callback=lambda *_: time.thread_time() > ends
        )
    except ValueError:
        parser().reset()
        raise TooLong from None
    return parser().parse(data, tree).root_node


def text(node: Node | None) -> str:
    """The source of a node."""
    return node.text.decode("utf-8", "replace") if node is not None and node.text else ""


def line(node: Node) -> int:
    """The line that a node begins on, from one."""
    return node.start_point[0] + 1


def field(node: Node | None, name: str) -> Node | None:
    """The child that a field of the grammar names, such as ``condition``; None: there is none, or no node."""
    return node.child_by_field_name(name) if node is not None else None


def children(node: Node | None) -> list[Node]:
    """The parts of a node, comments and signs left out; none of no node."""
    return [child for child in node.named_children if child.type != "comment"] if node is not None else []


def parent_of(node: Node | None, levels: int = 1) -> Node | None:
    """The node that so many levels above holds it; None: there is none."""
    for _ in range(levels):
        node = node.parent if node is not None else None
    return node


def ancestors(node: Node) -> Iterator[tuple[Node, Node]]:
    """(parent, child) pairs from a node up to the root.

    ``RecursionError`` where it is nested absurdly deep, or the file has taken too long.
    """
    Patience.tick()
    child = node
    parent = node.parent
    for step in range(MAX_NESTED):
        if step % 16 == 15:
            Patience.tick()
        if parent is None:
            return
        yield parent, child
        child, parent = parent, parent.parent
    raise RecursionError("nested too deeply")


def nearest(node: Node | None, *types: str) -> Node | None:
    """The innermost node of some types around a place."""
    around_it = ancestors(node) if node is not None else ()
    return next((parent for parent, _ in around_it if parent.type in types), None)


def names_around(node: Node) -> tuple[str, str]:
    """The names of the class and of the function that a place stands in, in lower case; empty for none."""
    function = ""
    for above, _ in ancestors(node):
        if above.type in ("class_declaration", "trait_declaration"):
            return text(field(above, "name")).lower(), function
        if above.type in ("function_definition", "method_declaration"):
            function = text(field(above, "name")).lower()
    return "", function


def heading(node: Node) -> str:
    """What a list or an entry of one is called: the variable, property, constant or key that it is given to, the call
    that it is handed to, the loop that it is used in."""
    out: list[str] = []
    for above, child in ancestors(node):
        if above.type == "array_element_initializer" and above.named_children[0] != child:
            out.append(text(above.named_children[0]))
        elif above.type in ("assignment_expression", "property_element", "const_element"):
            out.append(text(above.children[0]))
        elif above.type == "foreach_statement":
            out.append(text(above)[:300])
        elif above.type == "arguments" and above.parent is not None:
            out.append(called(above.parent))
        elif above.type in ("method_declaration", "function_definition"):
            out.append(text(field(above, "name")))
            break
    return " ".join(out)


def names_of(place: Node) -> str:
    """The names of the class and the function that a place stands in, and of what it is given to."""
    return " ".join((*names_around(place), heading(place)))[:200]


def walked(root: Node | None) -> Iterator[Node]:
    """A node and all below it, from the top down."""
    todo = [root] if root is not None else []
    while todo:
        Patience.tick()
        node = todo.pop()
        yield node
        todo += reversed(node.named_children)


def around(root: Node, data: bytes, word: re.Pattern[bytes], kinds: Collection[str]) -> Iterator[Node]:
    """The nodes of some kinds around each place where a word stands, the innermost first, each once.

    Only these are looked at: going through the whole tree costs many times what parsing does.
    """
    seen: set[int] = set()
    for match in word.finditer(data):
        at = root.descendant_for_byte_range(match.start(), match.end())
        while at is not None and at.id not in seen:  # above one that was seen, all were
            Patience.tick()
            seen.add(at.id)
            if at.type in kinds:
                yield at
            at = at.parent


def inside(root: Node | None) -> Iterator[Node]:
    """The same, but what stands in functions and classes of their own."""
    todo = [root] if root is not None else []
    while todo:
        Patience.tick()
        node = todo.pop()
        yield node
        todo += reversed([child for child in node.named_children if child.type not in FUNCTIONS])


def string(node: Node | None) -> str | None:
    """What a plain string or number holds; None for anything else."""
    if node is None:
        return None
    if node.type in ("string", "encapsed_string"):
        plain = ("string_content", "string_value", "escape_sequence")
        if any(child.type not in plain for child in node.named_children):
            return None
        return text(node)[1:-1]
    return text(node).replace("_", "") if node.type in ("integer", "float") else None


def unwrapped(node: Node | None) -> Node | None:
    """An expression without the parentheses around it."""
    while node is not None and node.type in ("parenthesized_expression", "argument") and node.named_child_count == 1:
        Patience.tick()
        node = node.named_children[0]
    return node


def called(node: Node | None) -> str:
    """The name of the function or method that a call calls, in lower case; empty for anything else."""
    if node is None:
        return ""
    if node.type == "function_call_expression":
        return text(field(node, "function")).lstrip("\\").lower()
    if node.type in ("member_call_expression", "scoped_call_expression", "nullsafe_member_call_expression"):
        return text(field(node, "name")).lower()
    return ""


def arguments(node: Node | None) -> list[Node]:
    """The arguments of a call, or of what makes an object."""
    given = field(node, "arguments")
    if given is None:  # of what makes an object it has no name
        given = next((child for child in children(node) if child.type == "arguments"), None)
    # What is given by name stands behind that name.
    values = (
        child.named_children[-1] if child.type == "argument" and child.named_children else child
        for child in children(given)
    )
    return [inner for value in values if (inner := unwrapped(value)) is not None]


def function_around(node: Node) -> str:
    """The name of the function or method that a place stands in; empty for the file itself."""
    at = node.parent
    while at is not None:
        Patience.tick()
        if at.type in ("function_definition", "method_declaration"):
            return text(field(at, "name"))
        at = at.parent
    return ""
