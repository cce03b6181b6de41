"""Classes that are made only where an extension was found: what they use of it stands behind that check.

``if (extension_loaded('imagick')) { return new PictureA(); } return new PictureB();``
"""

import re
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from functools import lru_cache
from typing import Final

from tree_sitter import Node

from fundamentum.catalog.symbols import providers
from fundamentum.derive.nodes import (
    Patience,
    TooLong,
    arguments,
    around,
    branches,
    called,
    parser,
    string,
    text,
    walked,
)
from fundamentum.derive.quoted import extension_called
from fundamentum.derive.source import CHECKS
from fundamentum.derive.tree import SourceFile, content_of
from fundamentum.untrusted.budget import Budget, Spent

MAX_TIME: Final = 0.5
"""Seconds for one file."""
_ASKS: Final = re.compile(rb"extension_loaded|class_exists|function_exists")
NEAR: Final = 600
"""Bytes behind a check in which something has to be made."""
_ASKED: Final = re.compile(rb"\b(extension_loaded|class_exists|function_exists)\s*\(\s*['\"]\\{0,2}([\w\\]+)['\"]")
_MAKES: Final = re.compile(rb"\bnew\s+\\?[A-Za-z]|\w::\w+\s*\(")
_WORDS: Final = (b"extension_loaded", b"class_exists", b"function_exists")
_LEAVING: Final = frozenset({"return_statement", "throw_expression", "continue_statement", "exit_statement"})


def guarded_classes(root: str, files: Sequence[SourceFile], budget: Budget) -> Mapping[str, frozenset[str]]:
    """Class, in lower case → the extensions behind checks for which alone it is made; none once the budget is spent."""
    try:
        return _guarded(root, files, budget)
    except Spent:
        return {}


def _guarded(root: str, files: Sequence[SourceFile], budget: Budget) -> Mapping[str, frozenset[str]]:
    own = [file for file in files if file.part in ("own", "optional")]
    guarded: dict[str, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    for file in own:
        budget.tick()
        data = content_of(root, file)
        if any(word in data for word in _WORDS) and _worth_parsing(data):
            Patience.begin(MAX_TIME)
            with suppress(TooLong, RecursionError):
                for name, extension in _of_file(data):
                    guarded[name][extension] += 1
    if not guarded:
        return {}
    made: dict[str, int] = defaultdict(int)
    written = sorted(name.encode("utf-8", "replace") for name in guarded)
    names = b"|".join(map(re.escape, written))
    anywhere = re.compile(rb"(?:\bnew\s+\\?(?:\w+\\)*|(?<![\w\\])(?:\w+\\)*(?=\w+\s*::))(" + names + rb")\b")
    for file in own:
        budget.tick()
        data = content_of(root, file)
        for match in anywhere.finditer(data) if any(name in data for name in written) else ():
            made[match[1].decode("utf-8", "replace")] += 1
    return {
        name.lower(): frozenset(extension for extension, number in counted.items() if number >= made[name])
        for name, counted in guarded.items()
    }


def _worth_parsing(data: bytes) -> bool:
    """Whether something is made soon behind a question about an extension: parsing takes a hundred times longer."""
    for match in _ASKED.finditer(data):
        kind, name = CHECKS[match[1].decode().lower()], match[2].decode("latin-1")
        if _extensions(kind, name) and _MAKES.search(data, match.end(), match.end() + NEAR):
            return True
    return False


def _of_file(data: bytes) -> Iterator[tuple[str, str]]:
    """Each class that is made behind a check, as often as it is, with the extension."""
    root = parser().parse(data).root_node
    for node in around(root, data, _ASKS, ("function_call_expression",)):
        extensions = _asked(node)
        for branch in _where_it_holds(node) if extensions else ():
            for below in walked(branch):
                name = _class_made(below)
                yield from ((name, extension) for extension in extensions if name)


def _asked(node: Node) -> frozenset[str]:
    kind, given = CHECKS.get(called(node)), arguments(node)
    name = string(given[0]) if given else None
    return _extensions(kind, name) if kind and name else frozenset()


@lru_cache(4096)
def _extensions(kind: str, name: str) -> frozenset[str]:
    """The extensions that a check of a kind asks for by a name."""
    if kind == "extension":
        return frozenset(filter(None, (extension_called(name.encode()),)))
    return frozenset(symbol.extension for symbol in providers(kind, name.replace("\\\\", "\\").lstrip("\\")))  # type: ignore[arg-type]


def _where_it_holds(check: Node) -> Iterator[Node]:
    """The code that runs only where a check holds: its branch; or what follows where the other one leaves."""
    above = check.parent
    inverted = above is not None and above.type == "unary_op_expression" and text(above).startswith("!")
    at = above if inverted and above is not None else check
    then, otherwise = branches(at)
    holds, fails = (otherwise, then) if inverted else (then, otherwise)
    if holds is not None:
        yield holds
    statement = at
    while statement.parent is not None and statement.type != "if_statement":
        Patience.tick()
        statement = statement.parent
    if holds is None and fails is not None and any(node.type in _LEAVING for node in walked(fails)):
        after = statement.next_named_sibling
        while after is not None:
            Patience.tick()
            yield after
            after = after.next_named_sibling


def _class_made(node: Node) -> str:
    if node.type == "object_creation_expression" and node.named_children:
        first = node.named_children[0]
        return text(first).rpartition("\\")[2] if first.type in ("name", "qualified_name") else ""
    if node.type == "scoped_call_expression":
        return text(node.child_by_field_name("scope")).rpartition("\\")[2]
    return ""
