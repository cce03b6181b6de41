"""Functions of a program's own that end it: ``function bail($why) { echo $why; exit; }``, in whatever file.

What is called before a use where something is missing is kept with the use; whether one of these functions ends the
program is known once all files can be asked (``with_endings``).
"""

import itertools
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Final

from msgspec.structs import replace
from tree_sitter import Node

from fundamentum.derive.application.tree import Each, SourceFile
from fundamentum.derive.php_source.facts import FileFacts
from fundamentum.derive.php_source.nodes import Patience, ancestors, around, called, field, parsed, text
from fundamentum.derive.statements.outcomes import ends
from fundamentum.derive.statements.where_missing import turned, where_missing

MAX_CALLED: Final = 4
"""Functions that one branch calls."""
MAX_NAMES: Final = 100
MAX_BEFORE: Final = 40
"""Statements before a use that are looked at."""
BLOCKS: Final = frozenset({"compound_statement", "program", "colon_block"})


def _called_in(branch: Node | None) -> Iterator[str]:
    """The functions that are called by the plain statements of a branch, in lower case."""
    if branch is not None:
        plain = branch.named_children if branch.type == "compound_statement" else [branch]
        told = [called(part) for line in plain for part in (line, *line.named_children[:1])]
        yield from list(filter(None, told))[:MAX_CALLED]


def called_before(use: Node, asking: Sequence[Node]) -> tuple[str, ...]:
    """The functions that are called before a use where one of some checks fails, in the blocks around the use."""
    found: dict[str, None] = {}
    for above, child in ancestors(use):
        before = child.prev_named_sibling if above.type in BLOCKS else None
        for _ in range(MAX_BEFORE):
            if before is None:
                break
            within = [one for one in asking if before.start_byte <= one.start_byte < before.end_byte]
            if before.type == "if_statement" and within:
                found |= dict.fromkeys(_called_in(where_missing(within[0], turned(within[0]))))
            before = before.prev_named_sibling
    return tuple(found)


def with_endings(each: Each, files: Sequence[SourceFile], facts: Mapping[str, FileFacts]) -> dict[str, FileFacts]:
    """The facts with uses that one of the program's own functions protects: it ends where the extension is missing."""
    own = [file for file in files if file.part == "own"]
    called_there = (use.behind for file in own if file.path in facts for use in facts[file.path].uses)
    names = list(dict.fromkeys(itertools.chain.from_iterable(called_there)))[:MAX_NAMES]
    ending = _ending(each, own, names) if names else frozenset()
    out = {}
    for path, fact in facts.items() if ending else ():
        uses = tuple(one if ending.isdisjoint(one.behind) else replace(one, guard="checked") for one in fact.uses)
        if uses != fact.uses:
            out[path] = replace(fact, uses=uses)
    return out


def _ending(each: Each, own: Sequence[SourceFile], names: Sequence[str]) -> frozenset[str]:
    """Those of the functions of which every definition ends whoever calls it."""
    words = b"|".join(re.escape(name.encode("utf-8", "replace")) for name in names)
    defined = re.compile(rb"function\s++&?\s*+(?:%s)\s*+\(" % words)
    told = [one for _, functions in each(_definitions, own, defined) for one in functions]
    return frozenset(name for name, _ in told) - {name for name, always in told if not always}


def _definitions(data: bytes, defined: re.Pattern[bytes]) -> list[tuple[str, bool]]:
    """The name of each function in a file that a pattern fits, and whether it ends in any case."""
    lowered = data.lower()
    if not defined.search(lowered):
        return []
    Patience.begin()
    found: list[tuple[str, bool]] = []
    with suppress(RecursionError):
        for function in around(parsed(data), lowered, defined, ("function_definition", "method_declaration")):
            name, body = field(function, "name"), field(function, "body")
            if name is not None and body is not None and defined.match(f"function {text(name)}(".lower().encode()):
                found.append(
                    (text(name).lower(), any(ends(part) for line in body.named_children for part in _whole(line)))
                )
    return found


def _whole(line: Node) -> list[Node]:
    """A statement, and the expression that it is."""
    return [line, *line.named_children[:1]] if line.type == "expression_statement" else [line]
