"""The checks of one file: where it asks for which extension, and what comes of it where that is missing."""

import itertools
import re
from collections.abc import Iterator, Sequence
from typing import Final, Literal

import msgspec
from tree_sitter import Node

from fundamentum.catalog import canonical
from fundamentum.catalog.symbols import known_extensions
from fundamentum.derive.php_source.evaluation import Cases, cases_of
from fundamentum.derive.php_source.nodes import (
    ancestors,
    arguments,
    children,
    field,
    inside,
    names_around,
    nearest,
    parent_of,
    string,
    text,
)
from fundamentum.derive.php_source.source import CHECKS, Source, provided
from fundamentum.derive.statements.collectors import Collector, adds_to, collector_of
from fundamentum.derive.statements.ending_functions import branches_where
from fundamentum.derive.statements.host_functions import stands_for
from fundamentum.derive.statements.outcomes import gives_up
from fundamentum.derive.statements.outcomes import outcome as outcome_of
from fundamentum.derive.statements.stated_at import comes_of, said_by_class
from fundamentum.derive.statements.truth import climbed, expression_around
from fundamentum.derive.statements.ways import ways_around

_EXIT: Final = re.compile(rb"\b(?:exit|die)\s*[(;]|E_USER_ERROR", re.I)
_THROW: Final = re.compile(rb"\bthrow\s+(?:new\b|\\?\w[\w\\]{0,100}::)", re.I)
_THROWS: Final = frozenset({"throw_expression", "throw_statement"})
LISTING_DRIVERS: Final = b"getavailabledrivers"
"""``in_array('mysql', PDO::getAvailableDrivers())`` asks for an extension, too."""
_LISTING: Final = {LISTING_DRIVERS: "driver", b"get_loaded_extensions": "extension"}
_IN_LIST: Final = "in_array"
MAX_CHECKS: Final = 500
"""Checks of one file that are looked at: an installer has a few dozen."""


class CheckAt(msgspec.Struct, frozen=True):
    """One check, where it stands in the file."""

    start: int
    extensions: tuple[str, ...]
    negative: bool
    """Whether it asks for absence: ``!extension_loaded('gd')``."""
    what: str


class Checks:
    """The places that ask for an extension, in order."""

    def __init__(self, source: Source, lowered: bytes, words: frozenset[bytes]) -> None:
        self.source, self.lowered = source, lowered
        self.words = [name for name in CHECKS if name.encode() in words]
        self.words += [_IN_LIST] if any(word in lowered for word in _LISTING) else []
        self.at = tuple(itertools.islice(self._find(), MAX_CHECKS))

    def node(self, check: CheckAt) -> Node | None:
        """The name of the function that is called for it."""
        return self.source.at(check.start, check.start + 1)

    def stops(self, check: CheckAt) -> bool:
        """Whether the program, or the function around, ends where the extension is missing."""
        node = self.node(check)
        return node is not None and self.outcome(check, node) in ("exits", "leaves", "throws")

    def outcome_in_program(
        self, check: CheckAt, node: Node, *, chosen: bool
    ) -> Literal["asked", "exits", "leaves", "throws", "reports", "warns"]:
        """What comes of it for the program: what stops within a function may be that function alone.

        ``chosen``: the check stands where something was chosen; what is missing is missing for those alone.
        """
        outcome = self.outcome(check, node)
        function = names_around(node)[1]
        if outcome == "exits" and "extension_loaded" not in check.what and function:
            return "throws"
        if outcome == "throws" and not function:
            return "exits" if self._throws_at_once(node) else "asked"
        if chosen:
            return outcome
        call = nearest(node, "function_call_expression")
        if outcome == "asked" and not check.negative and len(self.among(check, node)) > 1 and collector_of(node):
            return "throws" if function else "exits"
        asked, absent = (condition, True) if (condition := self._of_several(check, node)) is not None else (call, False)
        result = comes_of(asked, absent, extension=True) if outcome == "asked" and asked is not None else ""
        if asked is None:
            return outcome
        if not result:
            return said_by_class(asked) if outcome == "asked" else outcome
        # What ends in the branch was seen already, and a function that is called so may end less.
        at_once = any(outcome_of(branch) == "stops" for branch in branches_where(asked, absent))
        if result != "stops" or (at_once and self._directly(node)):
            return "warns" if result == "warns" else "reports"
        return "throws" if function else "exits"

    def outcome(self, check: CheckAt, node: Node) -> Literal["asked", "exits", "leaves", "throws"]:
        """What happens where the extension is absent; where there are other ways, where all of them are gone."""
        if not check.negative and (ways := ways_around(node))[0]:
            return self.ends(ways[1]) if ways[1] is not None and self._asked_in(ways[0]) else "asked"
        for parent, child in ancestors(node):
            if parent.type == "if_statement":
                absent = field(parent, "body") if check.negative else None
                if not check.negative:
                    absent = next(iter(parent.children_by_field_name("alternative")), None)
                if absent is None or child != field(parent, "condition"):
                    return "asked"
                return self.ends(absent)
            if parent.type == "binary_expression" and field(parent, "left") == child:
                operator, right = field(parent, "operator"), field(parent, "right")
                if operator is not None and right is not None and operator.type in ("||", "or") and not check.negative:
                    ending = self.ends(right)
                    if ending != "asked":
                        return ending
            if parent.type.endswith("_statement") or parent.type == "compound_statement":
                break
        return "asked"

    def among(self, check: CheckAt, node: Node) -> tuple[str, ...]:
        """The extensions of which one has to be there: the program stops only if all are missing.

        They are asked for in one condition, joined by *and*, or one after the other, each in a condition of its own.
        """
        if not check.negative and (ways := ways_around(node))[0]:
            return self._asked_in(ways[0])
        if not check.negative and (either := self._before_the_end(node)) is not None:
            return self._in(either, negative=False)
        if not check.negative and (collector := collector_of(node)) is not None:
            return self._collecting(collector)
        condition = self._of_several(check, node)
        return self._in(condition, negative=True) if condition is not None else ()

    def _collecting(self, collector: Collector) -> tuple[str, ...]:
        """The extensions of all checks that add to the same list."""
        alike = [check for check in self.at if not check.negative and adds_to(self.node(check), collector)]
        return tuple(dict.fromkeys(extension for check in alike for extension in check.extensions))

    def _of_several(self, check: CheckAt, node: Node) -> Node | None:
        """The condition of an ``if`` that holds where this extension and others are all missing, not for this alone."""
        statement = nearest(node, "if_statement")
        condition = field(statement, "condition")
        if condition is None or not check.negative or len(self._in(condition, negative=True)) < 2:
            return None
        there = {one.start: (one.start != check.start,) for one in self.at}

        def known(part: Node) -> Cases | None:
            named = field(part, "function") if part.type == "function_call_expression" else None
            return there.get(named.start_byte) if named is not None else None

        within = condition.start_byte <= check.start < condition.end_byte
        return condition if within and cases_of(condition, known, 1)[0] is not True else None

    def _before_the_end(self, node: Node) -> Node | None:
        """Several that stand before an end, each of which keeps from it: ``a() || b() || exit``"""
        for parent, child in ancestors(node):
            right = field(parent, "right") if parent.type == "binary_expression" else None
            operator = field(parent, "operator")
            if right is not None and operator is not None and operator.type in ("||", "or"):
                if field(parent, "left") == child and self.ends(right) != "asked":
                    joined = b"&&" not in self.source.data[child.start_byte : child.end_byte]
                    return child if joined and len(self._in(child, negative=False)) > 1 else None
            elif parent.type not in ("parenthesized_expression", "function_call_expression", "qualified_name"):
                break
        return None

    def _in(self, condition: Node, *, negative: bool) -> tuple[str, ...]:
        """The extensions that a condition asks for."""
        asked = [c for c in self.at if condition.start_byte <= c.start < condition.end_byte and c.negative is negative]
        return tuple(dict.fromkeys(extension for check in asked for extension in check.extensions))

    def _asked_in(self, conditions: Sequence[Node]) -> tuple[str, ...]:
        """The extensions that the conditions of several ways ask for; none if one is no matter of extensions."""
        asked = [self._in(condition, negative=False) for condition in conditions]
        return tuple(dict.fromkeys(itertools.chain(*asked))) if all(asked) else ()

    def _find(self) -> Iterator[CheckAt]:
        for name, start, end in self._calls():
            node = self.source.at(start, end)
            call = parent_of(node)
            if call is not None and call.type == "qualified_name":
                call = call.parent
            if call is None or call.type != "function_call_expression":
                continue
            if self.source.called(call) != name:
                continue
            given = arguments(call)
            value = self._value(given[0]) if given else None
            kind = self._listed(given) if name == _IN_LIST else CHECKS[name]
            extensions = self._asked(kind, value) if value is not None and kind else ()
            if extensions:
                yield CheckAt(start, extensions, self._negated(call), f"{name}('{(value or '')[:60]}')")

    def _calls(self) -> Iterator[tuple[str, int, int]]:
        found = []
        for name in self.words:
            at = self.lowered.find(name.encode())
            while at >= 0:
                end = at + len(name)
                found.append((name, at, end))
                at = self.lowered.find(name.encode(), end)
        return iter(sorted(found, key=lambda one: one[1]))

    def _value(self, node: Node) -> str | None:
        if node.type == "class_constant_access_expression":
            return self.source.names.class_name(text(node.children[0]), node.start_byte)
        if node.type == "array_creation_expression" and node.named_children:
            first = node.named_children[0].named_children
            return self._value(first[-1]) if first else None
        if node.type == "variable_name":  # one that is given a word once
            name = re.escape(text(node).encode("utf-8", "replace"))
            given: list[bytes] = re.findall(
                rb"%s\s*=(?![=>])\s*(?:['\"]([\w -]{1,40})['\"]\s*;)?" % name, self.source.data
            )
            return given[0].decode() if len(given) == 1 and given[0] else None
        return string(node)

    def _asked(self, kind: str, value: str) -> tuple[str, ...]:
        if kind == "extension":
            name = canonical(value)
            return (name,) if name in known_extensions() else ()
        if kind == "driver":
            return (f"pdo_{value}",) if f"pdo_{value}" in known_extensions() else ()
        if kind == "function" and (host := stands_for(value)):
            return (host,)
        value = value.replace("\\\\", "\\").lstrip("\\")
        if kind in ("function", "constant") and "::" in value and not provided(kind, value):
            kind, value = "class", value.partition("::")[0]
        return provided(kind, value)

    def _listed(self, given: Sequence[Node]) -> str:
        """What a list is of that something is looked for in: PDO's drivers, loaded extensions; empty: of neither.

        Or a variable that was given it.
        """
        if len(given) < 2:
            return ""
        written = text(given[1]).lower().encode("utf-8", "replace")
        for word, kind in _LISTING.items():
            kept = rb"%s\s*=[^;]{0,80}%s" % (re.escape(written), word)
            if word in written or (given[1].type == "variable_name" and re.search(kept, self.lowered)):
                return kind
        return ""

    def _negated(self, call: Node) -> bool:
        """Whether the condition around is true where the extension is absent.

        Of a version that is compared: whether it asks for an older one, as that of what is not there is.
        """
        older = False
        compared = expression_around(call)
        if compared is not None and self.source.called(compared) == "version_compare":
            given = arguments(compared)
            older = len(given) == 3 and (string(given[2]) or "") in ("<", "lt", "<=", "le")
            call = compared
        absent = False
        for _, worth in climbed(call, alone=False):
            if isinstance(worth.failed, bool):
                absent = worth.failed
            elif isinstance(worth.held, bool):
                absent = not worth.held
        return absent is not older

    def _directly(self, check: Node) -> bool:
        """Whether an ``if`` asks."""
        return (
            next((above.type for above, _ in ancestors(check) if above.type.endswith("_statement")), "")
            == "if_statement"
        )

    def _throws_at_once(self, check: Node) -> bool:
        """Whether what throws is the branch of the check itself, not a function that is defined in it."""
        statement, attempt = nearest(check, "if_statement"), nearest(check, "try_statement")
        for handler in children(attempt) if attempt is not None and nearest(check, "catch_clause") is None else ():
            if handler.type == "catch_clause" and "Exception" in text(field(handler, "type")):
                return self.ends(handler) != "asked"  # it is caught at once
        return statement is None or any(node.type in _THROWS for node in inside(statement))

    def ends(self, node: Node) -> Literal["asked", "exits", "leaves", "throws"]:
        """What ends in a branch: the program, or the function around by an exception; neither: the check only asks."""
        written = self.source.data[node.start_byte : node.end_byte] + b";"
        if _EXIT.search(written):
            return "exits"
        if gives_up(node):
            return "leaves"
        return "throws" if _THROW.search(written) else "asked"
