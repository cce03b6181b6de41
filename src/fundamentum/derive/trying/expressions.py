"""What the expressions of a program come to that is tried out."""

import re
from collections.abc import Callable
from functools import partial
from typing import Any, Final

from fundamentum.derive.php_source.scalars import limited
from fundamentum.derive.trying.comparing import number
from fundamentum.derive.trying.handing import level_in
from fundamentum.derive.trying.literals import Literals
from fundamentum.derive.trying.machine import Exit, Thrown
from fundamentum.derive.trying.operations import of_environment
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.targets import Targets
from fundamentum.derive.trying.telling import worse
from fundamentum.derive.trying.values import (
    UNKNOWN,
    Array,
    Closure,
    Unknown,
    joined,
    lifted,
    truth,
)


class Expressions(Literals):
    """The layer that evaluates."""

    def evaluate(self, part: Part | None) -> Any:
        if part is None:
            return UNKNOWN
        self.step(part)
        reader = _READERS.get(part.type)
        return reader(self, part) if reader is not None else UNKNOWN

    def _inner(self, part: Part) -> Any:
        return self.evaluate(part.kids[-1]) if part.kids else None

    def _name(self, part: Part) -> Any:
        """A constant, or one of the words that end a program."""
        name = part.text.lstrip("\\").rpartition("\\")[2]
        if name.lower() in ("exit", "die"):
            raise Exit(None, part)
        return self.constant(name, part)

    def _conditional(self, part: Part) -> Any:
        condition = self.evaluate(part.get("condition"))
        body = part.get("body")
        holds = truth(condition)
        if body is None and holds is None and of_environment(part.get("condition")):
            holds = False  # nobody set it
        return self.chosen(
            holds,
            lambda: self.evaluate(body) if body is not None else condition,
            lambda: self.evaluate(part.get("alternative")),
        )

    def _match(self, part: Part) -> Any:
        asked = self.evaluate(part.get("condition"))
        block = part.get("body")
        arms = list(block.kids) if block is not None else []
        return self._arms(asked, arms)

    def _arms(self, asked: Any, arms: list[Part]) -> Any:
        """The first arm that fits, or of those that may fit each."""
        for at, arm in enumerate(arms):
            if arm.type == "match_default_expression":
                return self.evaluate(arm.get("return_expression"))
            conditions = arm.get("conditional_expressions")
            fits: list[bool | None] = []
            for kid in conditions.kids if conditions is not None else []:
                fits.append(truth(self.operate("===", asked, self.evaluate(kid))))
                if fits[-1]:
                    break
            if True in fits:
                return self.evaluate(arm.get("return_expression"))
            if None in fits:
                # A default arm stands last, wherever it is written.
                rest = sorted(arms[at + 1 :], key=lambda part: part.type == "match_default_expression")
                return self.fork(partial(self.evaluate, arm.get("return_expression")), partial(self._arms, asked, rest))
        return UNKNOWN

    def _array(self, part: Part) -> Any:
        array = Array()
        for element in part.kids:
            inner = element.kids
            if not inner:
                continue
            if inner[0].type == "variadic_unpacking":
                spread = self.evaluate(inner[0].kids[0])
                if isinstance(spread, Array):
                    for key, value in spread.items.items():
                        array = array.with_item(None if isinstance(key, int) else key, value)
                array = Array(
                    array.items, loose=array.loose or not isinstance(spread, Array) or spread.loose, more=array.more
                )
            elif len(inner) > 1:
                key, value = self.evaluate(inner[0]), self.evaluate(inner[1])
                array = array.with_item("" if key is None else key, value)
                self.hand(element, value)
            else:
                value = self.evaluate(inner[0])
                array = array.with_item(None, value)
                self.hand(element, value)
        for element in part.kids:
            if element in self.handed and (element not in self.rows or worse(self.handed[element][-1], True)):
                self.rows[element] = array
        return array

    def _closure(self, part: Part) -> Any:
        frame = self.frame
        taken = next((kid for kid in part.kids if kid.type == "anonymous_function_use_clause"), None)
        bound = dict(frame.scope) if part.type == "arrow_function" else {}
        for element in taken.kids if taken is not None else []:
            by_reference = element.type == "by_ref"
            name = (element.kids[0] if by_reference else element).text
            cell = self.variable(name)
            bound[name] = cell if by_reference else type(cell)(cell.value)
        closure = Closure(part, bound, frame.this, frame.kind)
        self.closures.setdefault(part, closure)
        return closure

    def _throw(self, part: Part) -> Any:
        raise Thrown(self.evaluate(part.kids[0]) if part.kids else UNKNOWN, part)

    def _print(self, part: Part) -> Any:
        self._inner(part)
        return 1

    def _assigned(self, part: Part) -> Any:
        value, left = self.evaluate(part.get("right")), part.get("left")
        self.assign(left, value)
        if left is not None and left.type.endswith("member_access_expression") and not left.text.startswith("$this"):
            self.hand(part, value)  # of an object that is one result
        elif left is not None and left.type == "subscript_expression" and isinstance(value, bool):
            row = self.evaluate(left.kids[0])
            if isinstance(row, Array) and level_in(row):
                self.hand(part, value)  # of a row that says how bad it is
                if not value:
                    self.rows[part] = row
        return value

    def _reference(self, part: Part) -> Any:
        right = part.get("right")
        cell = self.cell(right)
        if cell is None:
            value = self.evaluate(right)
            self.assign(part.get("left"), value)
            return value
        self.bind(part.get("left"), cell)
        return cell.value

    def _augmented(self, part: Part) -> Any:
        left, right, sign = part.get("left"), part.get("right"), part.sign.removesuffix("=")
        if sign == "??":
            before = self.looked_up(left)
            if before is not None and not isinstance(before, Unknown):
                return before
            value = self.evaluate(right)
            value = joined([before, value]) if isinstance(before, Unknown) else value
        else:
            value = self.operate(sign, self.evaluate(left), self.evaluate(right))
        self.assign(left, value)
        return value

    def _updated(self, part: Part) -> Any:
        target = part.get("argument") or part.kids[0]
        before = self.evaluate(target)
        up = "++" in part.text
        after = lifted(lambda operand: limited(number(operand) + (1 if up else -1)), before)
        self.assign(target, after)
        return after if part.text.startswith(("++", "--")) else before

    def _sequence(self, part: Part) -> Any:
        value: Any = None
        for kid in part.kids:
            value = self.evaluate(kid)
        return value

    def _yield(self, part: Part) -> Any:
        entry = part.kids[0] if part.kids and part.kids[0].type == "array_element_initializer" else None
        if entry is not None and len(entry.kids) > 1 and self.frame.yields is not None:
            self.yielded([self.evaluate(entry.kids[1])], self.evaluate(entry.kids[0]))
            return UNKNOWN
        value = self._inner(part)
        if self.frame.yields is not None:
            from_another = re.match(r"yield\s+from\b", part.text) is not None
            yielded = value.values() if from_another and isinstance(value, Array) else [value]
            self.yielded(UNKNOWN if from_another and not isinstance(value, Array) else yielded)
        return UNKNOWN

    def yielded(self, handed: Any, key: Any = None) -> None:
        """What the function around gives out, one after the other.  ``key``: what stands before ``=>``."""
        cell = self.variable("yield")
        before = cell.value if isinstance(cell.value, Array) else Array()
        if isinstance(handed, Unknown):
            self.memory.write(cell, Array(before.items, loose=True))
            return
        for item in handed:
            before = before.with_item(key, item)
        self.memory.write(cell, before)


_READERS: Final[dict[str, Callable[[Any, Part], Any]]] = {
    "parenthesized_expression": Expressions._inner,
    "argument": Expressions._inner,
    "error_suppression_expression": Expressions._inner,
    "array_element_initializer": Expressions._inner,
    "by_ref": Expressions._inner,
    "string": Expressions._string,
    "encapsed_string": Expressions._template,
    "heredoc": Expressions._template,
    "nowdoc": Expressions._template,
    "integer": Expressions._integer,
    "float": Expressions._float,
    "boolean": Expressions._boolean,
    "null": Expressions._null,
    "name": Expressions._name,
    "qualified_name": Expressions._name,
    "binary_expression": Expressions._binary,
    "unary_op_expression": Expressions._unary,
    "cast_expression": Expressions._cast,
    "conditional_expression": Expressions._conditional,
    "match_expression": Expressions._match,
    "array_creation_expression": Expressions._array,
    "anonymous_function": Expressions._closure,
    "arrow_function": Expressions._closure,
    "throw_expression": Expressions._throw,
    "print_intrinsic": Expressions._print,
    "assignment_expression": Expressions._assigned,
    "reference_assignment_expression": Expressions._reference,
    "augmented_assignment_expression": Expressions._augmented,
    "update_expression": Expressions._updated,
    "sequence_expression": Expressions._sequence,
    "yield_expression": Expressions._yield,
    "variable_name": Targets.read,
    "dynamic_variable_name": Targets.read,
    "subscript_expression": Targets.read,
    "member_access_expression": Targets.read,
    "nullsafe_member_access_expression": Targets.read,
    "scoped_property_access_expression": Targets.read,
}


def reads(kind: str) -> Callable[[Callable[[Any, Part], Any]], Callable[[Any, Part], Any]]:
    """Let a method of a layer above evaluate expressions of a kind."""

    def taken(reader: Callable[[Any, Part], Any]) -> Callable[[Any, Part], Any]:
        _READERS[kind] = reader
        return reader

    return taken
