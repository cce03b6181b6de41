"""What stands around a use: a check for the extension, a catch, a choice by name, a test of the version."""

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import Final

from msgspec.structs import replace
from tree_sitter import Node

from fundamentum.derive.php_source.facts import COMMAND_LINE, INSTEAD_OF, WITHOUT, Check, Guard
from fundamentum.derive.php_source.nodes import (
    Patience,
    ancestors,
    children,
    field,
    line,
    names_of,
    nearest,
    string,
    text,
)
from fundamentum.derive.php_source.source import Source, provided
from fundamentum.derive.statements.answer_names import names_holding
from fundamentum.derive.statements.asking_calls import ASKING
from fundamentum.derive.statements.checks import Checks
from fundamentum.derive.statements.condition_names import (
    always,
    answers_no,
    holds_today,
    names_in,
    names_one,
    names_provided,
)
from fundamentum.derive.statements.ending_functions import BLOCKS, MAX_BEFORE, called_before, two_ways
from fundamentum.derive.statements.held_conditions import with_kept

GUARDS: Final[tuple[Guard, ...]] = ("never", "checked", "caught", "explained", "chosen", "instead", "version")
"""What protects a use, the strongest first."""
VERSION: Final = re.compile(
    rb"\bPHP_(?:VERSION|MAJOR_VERSION|MINOR_VERSION|VERSION_ID)\b|\b(?:phpversion|version_compare)\s*\(", re.I
)
_DENIED: Final = re.compile(rb"\(?\s*!(?!=)[^&|]*\Z")
"""A condition that is one negation: what is behind a branch that leaves by it runs where the rest holds."""
MAX_BRANCHES: Final = 20
"""Branches of one ``if`` that are looked at before the one in question."""
_CHOICES: Final = frozenset({"case_statement", "match_conditional_expression"})
_CHOSEN_FROM: Final = _CHOICES | {"default_statement", "match_default_expression"}
_ASKED: Final = frozenset({"function_call_expression", "scoped_call_expression", "member_call_expression"})
"""What stands at a case of ``switch (true)``"""
_LATER: Final = frozenset({"arrow_function", "anonymous_function", "class_constant_access_expression"})
_LEAVES: Final = frozenset({"return_statement", "continue_statement", "break_statement", "exit_statement"})
_CATCHES_MISSING: Final = frozenset({"throwable", "error"})
_AROUND_CODE: Final = (
    "function_definition",
    "method_declaration",
    "anonymous_function",
    "arrow_function",
    "try_statement",
)
_SAPI: Final = rb"(?:PHP_SAPI|php_sapi_name\s*\(\s*\))"
_CLI: Final = re.compile(_SAPI + rb"\s*===?\s*['\"]cli['\"]|['\"]cli['\"]\s*===?\s*" + _SAPI)
_NOT_CLI: Final = re.compile(_SAPI + rb"\s*!==?\s*['\"]cli['\"]|['\"]cli['\"]\s*!==?\s*" + _SAPI)


class Guards:
    """The checks of one file, and what they protect."""

    def __init__(self, source: Source, lowered: bytes, words: frozenset[bytes]) -> None:
        self.source = source
        self.found = Checks(source, lowered, words)
        self.at = self.found.at
        self._left: dict[int, list[tuple[Node, bool]]] = {}
        self._kept: dict[tuple[int, bool], tuple[tuple[Node, bool], ...]] = {}
        self._names_in: dict[int, tuple[str, ...]] = {}
        self.names = names_holding(self.found, source)

    def checks(self) -> Iterator[Check]:
        """The checks of the file as facts; what comes of each is another matter."""
        for check in self.at:
            node = self.found.node(check)
            if node is not None:
                for_scripts = COMMAND_LINE in self.around(node, check.extensions)[1]
                fact = Check("", "asked", line(node), check.what, (), names_of(node), command_line=for_scripts)
                yield from (replace(fact, extension=extension) for extension in check.extensions)

    def around(self, node: Node, extensions: Sequence[str], *, reaching: bool = False) -> tuple[Guard, tuple[str, ...]]:
        """What protects a use of one of the extensions, and the names in the conditions around it.

        ``reaching``: of a place that reaches one.  A table that says how something is made protects that; and a
        function which has to be given what only the extension makes protects nothing that it calls.
        """
        guards: list[Guard] = []
        names: dict[str, None] = {}
        stops = False
        """Whether the program stops for want of it whatever is chosen, not in one of several ways."""
        for parent, child in ancestors(node):
            for condition, positive in self.conditions(parent, child):
                if guard := self._judged(condition, positive, extensions):
                    guards.append(guard)
                    if guard == "instead":
                        rivals = self._missing(condition, positive)
                        names = {f"{INSTEAD_OF}{rival}": None for rival in rivals} | names
                    stops = stops or (guard == "explained" and "chosen" in guards)
                written = self.source.data[condition.start_byte : condition.end_byte]
                if (_CLI if positive else _NOT_CLI).search(written) and b"||" not in written:
                    names = {COMMAND_LINE: None} | names
                if missing := answers_no(written, positive):
                    names = {f"{WITHOUT}{missing}": None} | names
                names |= dict.fromkeys(self._spoken(condition))
            if guard := self._other(parent, child, extensions, reaching):
                guards.append(guard)
            if parent.type in _CHOSEN_FROM and (missing := _not_chosen(parent)):
                names = {f"{WITHOUT}{missing}": None} | names
            if "checked" in guards:
                break
        if reaching and "chosen" in guards and not stops:
            guards = [guard for guard in guards if guard != "explained"]
        return next((guard for guard in GUARDS if guard in guards), ""), tuple(names)[:12]

    def behind(self, node: Node, extensions: Sequence[str]) -> tuple[str, ...]:
        """The functions that are called before a use where a check finds one of the extensions missing."""
        alike = [self.found.node(check) for check in self.at if not set(check.extensions).isdisjoint(extensions)]
        asking = [call for operand in alike if (call := nearest(operand, "function_call_expression")) is not None]
        return called_before(node, asking) if asking else ()

    def for_some_versions(self, node: Node) -> bool:
        """Whether a place runs under some versions of PHP alone, be it all that are about today."""
        around = (condition for parent, child in ancestors(node) for condition, _ in self.conditions(parent, child))
        return any(VERSION.search(condition.text or b"") for condition in around) or self.around(node, ())[0] == "never"

    def conditions(self, parent: Node, child: Node) -> Iterator[tuple[Node, bool]]:
        """Conditions that hold (or do not) where the child runs, those that a variable keeps among them."""
        for condition, positive in self._conditions(parent, child):
            if (condition.id, positive) not in self._kept:
                self._kept[condition.id, positive] = tuple(with_kept(self.source.data, condition, positive))
            yield from self._kept[condition.id, positive]

    def _conditions(self, parent: Node, child: Node) -> Iterator[tuple[Node, bool]]:
        kind = parent.type
        if kind in ("if_statement", "else_if_clause", "conditional_expression", "while_statement"):
            condition = field(parent, "condition")
            if condition is not None and condition != child:
                alternative = kind != "else_if_clause" and child in parent.children_by_field_name("alternative")
                yield condition, not alternative
            if kind == "if_statement":
                Patience.tick()
                for other in parent.children_by_field_name("alternative")[:MAX_BRANCHES]:
                    if other == child:
                        break
                    if (node := field(other, "condition")) is not None:
                        yield node, False
        elif kind == "binary_expression":
            operator = field(parent, "operator")
            left = field(parent, "left")
            if left is not None and left != child and operator is not None:
                if operator.type in ("&&", "and"):
                    yield left, True
                elif operator.type in ("||", "or"):
                    yield left, False
        elif kind in BLOCKS:
            yield from self._left_before(child)
        elif kind in _CHOICES:
            if kind == "case_statement":
                yield from self._left_before(child)
            value = field(parent, "value") or parent.named_children[0]
            alone = value.named_children[0] if value.named_child_count == 1 and kind != "case_statement" else value
            if value != child and alone.type in _ASKED:
                yield alone, True

    def _left_before(self, statement: Node) -> Iterable[tuple[Node, bool]]:
        """``if (!function_exists('x')) { return; }`` before the statement."""
        if statement.id not in self._left:
            self._left[statement.id] = list(self._leaving_before(statement))
        return self._left[statement.id]

    def _leaving_before(self, statement: Node) -> Iterator[tuple[Node, bool]]:
        before = statement.prev_named_sibling
        for _ in range(MAX_BEFORE):
            if before is None:
                return
            if before.type == "if_statement":
                yield from self._left_by(before)
            before = before.prev_named_sibling

    def _left_by(self, statement: Node) -> Iterator[tuple[Node, bool]]:
        """What holds behind an ``if`` some branches of which leave."""
        others = statement.children_by_field_name("alternative")[:MAX_BRANCHES]
        for branch in (statement, *others):
            body, condition = field(branch, "body"), field(branch, "condition")
            if body is None or condition is None or not self._leaves(body):
                break
            if not self._is_gate(condition, body):
                yield condition, False
        first, otherwise = field(statement, "condition"), field(others[0], "body") if len(others) == 1 else None
        if first is not None and otherwise is not None and others[0].type == "else_clause":
            yield from [(first, True)] if self._leaves(otherwise) and not self._is_gate(first, otherwise) else []

    def _is_gate(self, condition: Node, body: Node) -> bool:
        """Where the program itself ends, what follows is all of it, no part for some versions."""
        if not self._asks_version(condition):
            return False
        ends = self.found.ends(body)
        # What the file's own code throws nobody catches, but whoever includes it.
        return ends == "exits" or (ends == "throws" and nearest(body, *_AROUND_CODE) is None)

    def _asks_version(self, condition: Node) -> bool:
        return any(VERSION.search(node.text or b"") for node, _ in with_kept(self.source.data, condition, True))

    def _leaves(self, body: Node) -> bool:
        last = children(body)[-1] if body.type in BLOCKS and children(body) else body
        if last.type == "if_statement":
            ways = two_ways(last)
            return bool(ways) and all(map(self._leaves, ways))
        return last.type in _LEAVES or (last.type == "expression_statement" and self.found.ends(last) == "throws")

    def _judged(self, condition: Node, positive: bool, extensions: Sequence[str]) -> Guard:
        start, end = condition.start_byte, condition.end_byte
        for check in self.at:
            if start <= check.start < end:
                if not set(check.extensions).isdisjoint(extensions):
                    return "explained" if self.found.stops(check) else "checked"
                if positive == check.negative:
                    return "instead"  # it runs where another extension is absent
        written = self.source.data[start:end]
        for name in self._spoken(condition):
            if not self.names.get(name, set()).isdisjoint(extensions):
                return "checked"
        if b"instanceof" in written and any(
            not set(provided("class", word.decode("latin-1"))).isdisjoint(extensions)
            for word in re.findall(rb"[\w\\]+", written.split(b"instanceof", 1)[1])
        ):
            return "checked"
        if (positive or _DENIED.match(written)) and names_one(written, extensions):
            asks = [name[:-2].encode() for name in self._spoken(condition) if name.endswith("()")]
            return "checked" if ASKING.among(asks) else "chosen"
        if names_provided(written, extensions):
            return "checked"
        if always(written) is (not positive):
            return "never"
        if (today := holds_today(written)) is not None:
            return "" if today is positive else "never"
        return "version" if VERSION.search(written) else ""

    def _missing(self, condition: Node, positive: bool) -> Iterator[str]:
        """The extensions that are absent where a condition holds, or does not."""
        for check in self.at:
            if condition.start_byte <= check.start < condition.end_byte and positive == check.negative:
                yield from check.extensions

    def _other(self, parent: Node, child: Node, extensions: Sequence[str], reaching: bool) -> Guard:
        if parent.type == "try_statement" and field(parent, "body") == child:
            for clause in parent.named_children:
                caught = field(clause, "type") if clause.type == "catch_clause" else None
                if caught is not None:
                    names = {word.lower() for word in re.findall(r"\w+", text(caught))}
                    body = field(clause, "body")
                    if names & _CATCHES_MISSING and (body is None or self.found.ends(body) != "exits"):
                        return "caught"
        elif parent.type in _CHOICES or (reaching and _makes_later(parent, child)):
            value = field(parent, "value") or parent.named_children[0]
            if value != child and names_one(self.source.data[value.start_byte : value.end_byte], extensions):
                return "chosen"
            first = value.named_children[0] if value.type == "match_condition_list" else value
            if value != child and string(first) and _chosen_in_settings(parent):
                return "chosen"
        elif parent.type in ("method_declaration", "function_definition"):
            return "checked" if not reaching and self._given(parent, extensions) else ""
        elif parent.type in ("class_declaration", "trait_declaration"):
            for check in self.at:
                inside = parent.start_byte <= check.start < parent.end_byte
                if inside and not set(check.extensions).isdisjoint(extensions):
                    return "explained" if self.found.stops(check) else "checked"
        return ""

    def _given(self, function: Node, extensions: Sequence[str]) -> bool:
        """Whether a function has to be given an object of the extension's: its caller has the extension then."""
        given = field(function, "parameters")
        for parameter in children(given):
            kind = field(parameter, "type")
            if kind is not None and field(parameter, "default_value") is None:
                name = self.source.names.class_name(text(kind), kind.start_byte)
                if not set(provided("class", name)).isdisjoint(extensions):
                    return True
        return False

    def _spoken(self, condition: Node) -> tuple[str, ...]:
        """The names in a condition: ``$variable``, ``->property``, ``function()``, ``CONSTANT``."""
        if condition.id not in self._names_in:
            written = self.source.data[condition.start_byte : condition.end_byte]
            self._names_in[condition.id] = tuple(names_in(written))
        return self._names_in[condition.id]


_OF_SETTINGS: Final = re.compile(r"(?<![a-z])(?:config\w*|conf|settings?|options?|prefs?|preferences)(?![a-z])", re.I)


def _chosen_in_settings(case: Node) -> bool:
    """Whether it is one of several ways of which the configuration chooses one: ``switch ($config['transport'])``."""
    choice = case.parent.parent if case.parent is not None else None
    condition = field(choice, "condition") if choice is not None else None
    others = case.parent.named_child_count if case.parent is not None else 0
    return condition is not None and others > 1 and _OF_SETTINGS.search(text(condition)) is not None


def _not_chosen(case: Node) -> str:
    """The name whose answer is no where a choice does not come to its one other case."""
    cases = case.parent
    choice = field(cases.parent, "condition") if cases is not None else None
    if cases is None or choice is None or cases.named_child_count != 2:
        return ""
    return next(names_in(choice.text or b""), "")


def _makes_later(element: Node, child: Node) -> bool:
    """Whether it is an entry of a table that only says how something is made: ``'ldap' => fn () => new Directory()``"""
    return element.type == "array_element_initializer" and child.type in _LATER and element.named_child_count > 1
