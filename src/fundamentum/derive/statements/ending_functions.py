"""Functions of a program's own that end it: ``function bail($why) { echo $why; exit; }``, in whatever file.

What is called before a use where something is missing is kept with the use; whether one of these functions ends the
program is known once all files can be asked (``with_endings``).
"""

import itertools
import re
from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Final

import msgspec
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
MAX_DEEP: Final = 3
"""Functions that call each other, of which the last ends the program."""
MAX_BEFORE: Final = 120
"""Statements before a use that are looked at."""
BLOCKS: Final = frozenset({"compound_statement", "program", "colon_block"})


def _called_in(branch: Node | None) -> Iterator[str]:
    """The functions that are called by the plain statements of a branch, in lower case."""
    branch = field(branch, "body") if branch is not None and branch.type == "else_clause" else branch
    if branch is not None:
        plain = branch.named_children if branch.type in BLOCKS else [branch]
        told = [called(part) for line in plain for part in (line, *line.named_children[:1])]
        yield from list(filter(None, told))[:MAX_CALLED]


def called_before(use: Node, asking: Sequence[Node]) -> tuple[str, ...]:
    """The functions that are called before a use where one of some checks fails, in the blocks around the use."""
    calls: dict[str, None] = {}
    for above, child in ancestors(use):
        before = child.prev_named_sibling if above.type in BLOCKS else None
        for _ in range(MAX_BEFORE):
            if before is None:
                break
            within = [node for node in asking if before.start_byte <= node.start_byte < before.end_byte]
            if within:
                calls |= dict.fromkeys(_called_in(where_missing(within[0], turned(within[0]))))
            before = before.prev_named_sibling
    return tuple(calls)


def with_endings(each: Each, files: Sequence[SourceFile], facts: Mapping[str, FileFacts]) -> dict[str, FileFacts]:
    """The facts with uses that one of the program's own functions protects: it ends where the extension is missing."""
    own = [file for file in files if file.part == "own"]
    called_there = (use.behind for file in own if file.path in facts for use in facts[file.path].uses)
    names = list(dict.fromkeys(itertools.chain.from_iterable(called_there)))[:MAX_NAMES]
    ending = _ending(each, own, names) if names else frozenset()
    out = {}
    for path, fact in facts.items() if ending else ():
        uses = tuple(use if ending.isdisjoint(use.behind) else replace(use, guard="checked") for use in fact.uses)
        if uses != fact.uses:
            out[path] = replace(fact, uses=uses)
    return out


def _ending(each: Each, own: Sequence[SourceFile], names: Sequence[str]) -> frozenset[str]:
    """Those of the functions of which every definition ends whoever calls it: itself, or by another that does."""
    known: dict[str, list[_Definition]] = defaultdict(list)
    asked, wanted = set[str](), list(names)
    for _ in range(MAX_DEEP):
        words = b"|".join(re.escape(name.encode("utf-8", "replace")) for name in wanted)
        for _, definitions in each(_definitions, own, re.compile(rb"function\s++&?\s*+(?:%s)\s*+\(" % words)):
            for definition in definitions:
                known[definition.name].append(definition)
        asked |= set(wanted)
        open_ones = (function for name in wanted for function in known[name] if not function.ends)
        called_there = (name for function in open_ones for way in (function.calls, *function.ways) for name in way)
        wanted = list(dict.fromkeys(name for name in called_there if name not in asked))[:MAX_NAMES]
        if not wanted:
            break
    ending: set[str] = set()
    for _ in range(MAX_DEEP):
        ending |= {
            name
            for name, functions in known.items()
            if functions and all(function.ends_by(ending) for function in functions)
        }
    return frozenset(ending)


class _Definition(msgspec.Struct, frozen=True, array_like=True):
    name: str
    ends: bool
    """Whether it ends in any case, by a statement of its own."""
    calls: tuple[str, ...]
    """The functions that it calls in any case."""
    ways: tuple[tuple[str, ...], ...] = ()
    """Where it goes one of two ways in any case: those that it calls on each that does not end by itself."""

    def ends_by(self, ending: Collection[str]) -> bool:
        """Whether it ends, if some functions do."""
        if self.ends or not set(self.calls).isdisjoint(ending):
            return True
        return bool(self.ways) and all(not set(way).isdisjoint(ending) for way in self.ways)


def _definitions(data: bytes, defined: re.Pattern[bytes]) -> list[_Definition]:
    """Each function in a file that a pattern fits."""
    lowered = data.lower()
    if not defined.search(lowered):
        return []
    Patience.begin()
    definitions: list[_Definition] = []
    with suppress(RecursionError):
        for function in around(parsed(data), lowered, defined, ("function_definition", "method_declaration")):
            name, body = field(function, "name"), field(function, "body")
            if name is not None and body is not None and defined.match(f"function {text(name)}(".lower().encode()):
                ways = (two_ways(line) for line in body.named_children)
                open_ways = next(([way for way in both if not _ends_always(way)] for both in ways if both), [])
                calls = _called_always(body)
                definitions.append(
                    _Definition(text(name).lower(), _ends_always(body), calls, tuple(map(_called_always, open_ways)))
                )
    return definitions


def _called_always(block: Node) -> tuple[str, ...]:
    """The functions that a block calls in any case."""
    names = dict.fromkeys(called(part) for line in block.named_children for part in _whole(line))
    return tuple(filter(None, names))[:MAX_CALLED]


def _ends_always(block: Node) -> bool:
    """Whether one of its statements ends, or both ways of one that decides."""
    return any(ends(part) for line in block.named_children for part in _whole(line)) or any(
        (ways := two_ways(line)) and all(map(_ends_always, ways)) for line in block.named_children
    )


def two_ways(line: Node) -> list[Node]:
    """Both blocks of a statement that goes one of two ways in any case."""
    if line.type != "if_statement":
        return []
    body, other = field(line, "body"), field(line, "alternative")
    otherwise = field(other, "body") if other is not None and other.type == "else_clause" else None
    return [body, otherwise] if body is not None and otherwise is not None else []


def _whole(line: Node) -> list[Node]:
    """A statement, and the expression that it is."""
    return [line, *line.named_children[:1]] if line.type == "expression_statement" else [line]
