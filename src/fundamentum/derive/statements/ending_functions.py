"""Functions of a program's own that end it: ``function bail($why) { echo $why; exit; }``, in whatever file.

What is called where something is missing is kept with the check (``called_where``); whether one of these functions
ends the program is known once all files can be asked (``with_endings``).
"""

import itertools
import re
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from typing import Final

from msgspec.structs import replace
from tree_sitter import Node

from fundamentum.derive.application.tree import Each, SourceFile
from fundamentum.derive.php_source.facts import Check, FileFacts, Gate
from fundamentum.derive.php_source.nodes import Patience, ancestors, around, called, field, parsed, text
from fundamentum.derive.statements.branches import branches
from fundamentum.derive.statements.outcomes import ends
from fundamentum.derive.statements.truth import climbed

MAX_CALLED: Final = 4
"""Functions that one branch calls."""
MAX_NAMES: Final = 100
MAX_BEFORE: Final = 40
"""Statements before a use that are looked at."""
BLOCKS: Final = frozenset({"compound_statement", "program", "colon_block"})
_OPEN: Final = ("", "asked", "reports")
"""What comes of a check as far as its own file tells, where more may come of it."""


def called_where(condition: Node, holds: bool) -> tuple[str, ...]:
    """The functions that are called by the plain statements of a branch, where a condition holds or where it does not.

    In lower case.
    """
    return tuple(dict.fromkeys(_called(condition, holds)))[:MAX_CALLED]


def branches_where(condition: Node, holds: bool) -> Iterator[Node]:
    """What is done where a condition holds, or where it does not, at each place that it decides."""
    for at, worth in climbed(condition):
        then, otherwise = branches(at)
        for case, true in worth.cases():
            branch = then if true else otherwise
            yield from [branch] if case is holds and branch is not None else []


def _called(condition: Node, holds: bool) -> Iterator[str]:
    for branch in branches_where(condition, holds):
        plain = branch.named_children if branch.type == "compound_statement" else [branch]
        yield from filter(None, (called(part) for line in plain for part in (line, *line.named_children[:1])))


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
                found |= dict.fromkeys(called_where(within[0], False))
            before = before.prev_named_sibling
    return tuple(found)


def with_endings(each: Each, files: Sequence[SourceFile], facts: Mapping[str, FileFacts]) -> dict[str, FileFacts]:
    """The facts in which a check calls one of the program's own functions that end it, with what comes of that."""
    own = [file for file in files if file.part == "own"]
    stated: list[Check | Gate] = []
    for fact in (facts[file.path] for file in own if file.path in facts):
        stated += (*fact.checks, *fact.gates)
    called_there = [one.calls for one in stated if one.outcome in _OPEN]
    called_there += [use.behind for file in own if file.path in facts for use in facts[file.path].uses]
    names = list(dict.fromkeys(itertools.chain.from_iterable(called_there)))[:MAX_NAMES]
    ending = _ending(each, own, names) if names else {}

    def ended(one: Check | Gate) -> bool:
        return one.outcome in _OPEN and not ending.keys().isdisjoint(one.calls)

    out = {}
    for path, fact in facts.items() if ending else ():
        uses = tuple(
            one if ending.keys().isdisjoint(one.behind) else replace(one, guard="checked") for one in fact.uses
        )
        if uses != fact.uses or any(map(ended, fact.checks)) or any(map(ended, fact.gates)):
            checks = (replace(one, outcome=_end_of(one, ending)) if ended(one) else one for one in fact.checks)
            gates = (replace(one, outcome="stops") if ended(one) else one for one in fact.gates)
            out[path] = replace(fact, uses=uses, checks=tuple(checks), gates=tuple(gates))
    return out


def _end_of(check: Check, ending: Mapping[str, str]) -> str:
    """What a check comes to that ends the program; an exception ends the function around, if there is one."""
    exits = any(ending.get(name) == "exits" for name in check.calls) and "extension_loaded" in check.what
    return "exits" if exits or check.around.split(" ")[1:2] in ([], [""]) else "throws"


def _ending(each: Each, own: Sequence[SourceFile], names: Sequence[str]) -> Mapping[str, str]:
    """Those of the functions of which every definition ends whoever calls it, and how: ``exits``, ``throws``."""
    words = b"|".join(re.escape(name.encode("utf-8", "replace")) for name in names)
    defined = re.compile(rb"function\s++&?\s*+(?:%s)\s*+\(" % words)
    found: dict[str, set[str]] = defaultdict(set)
    for _, functions in each(_definitions, own, defined):
        for name, end in functions:
            found[name].add(end)
    return {name: min(ends) for name, ends in found.items() if "" not in ends}


def _definitions(data: bytes, defined: re.Pattern[bytes]) -> list[tuple[str, str]]:
    """The name of each function in a file that a pattern fits, and how it ends in any case, if it does."""
    lowered = data.lower()
    if not defined.search(lowered):
        return []
    Patience.begin()
    found: list[tuple[str, str]] = []
    try:
        for function in around(parsed(data), lowered, defined, ("function_definition", "method_declaration")):
            name, body = field(function, "name"), field(function, "body")
            if name is not None and body is not None and defined.match(f"function {text(name)}(".lower().encode()):
                last = [part for line in body.named_children for part in _whole(line) if ends(part)][:1]
                thrown = any(part.type.startswith("throw") for part in last)
                found.append((text(name).lower(), "" if not last else "throws" if thrown else "exits"))
    except RecursionError:
        return []
    return found


def _whole(line: Node) -> list[Node]:
    """A statement, and the expression that it is."""
    return [line, *line.named_children[:1]] if line.type == "expression_statement" else [line]
