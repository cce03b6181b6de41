"""What expressions with an operator, or a cast, come to in a program that is tried out."""

import re
from typing import Any, Final

from fundamentum.derive.php_source.scalars import limited
from fundamentum.derive.trying.comparing import number, written
from fundamentum.derive.trying.machine import Given
from fundamentum.derive.trying.operators import ORDER, joined_by
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.targets import Targets
from fundamentum.derive.trying.values import UNKNOWN, Array, Instance, Loaded, Unknown, joined, lifted, truth

_ENVIRONMENT: Final = re.compile(r"(?:getenv|env)\s*\(|\$_ENV\s*\[")


def of_environment(part: Part | None) -> bool:
    """Whether a value is of the environment: beside it stands what counts where nobody sets it."""
    return part is not None and _ENVIRONMENT.match(part.text.lstrip("(@\\ ")) is not None


_VARIABLE: Final = re.compile(r"\$\w+")
_OF_ROW: Final = re.compile(r"!?\s*\$\w+\s*\[\s*['\"]?\w+['\"]?\s*\]")
"""A condition that is a member of a row: ``$row['optional']``"""
_OF_VARIABLE: Final = re.compile(r"!?\s*(\$\w+)")
_SAME: Final = ("==", "===", "!=", "!==", "<>")


class Operations(Targets):
    """The layer of what stands between values, and before them."""

    def _binary(self, part: Part) -> Any:
        left, right, sign = part.get("left"), part.get("right"), part.sign
        if sign in ("&&", "and", "||", "or"):
            return self._either(left, right, deciding=sign in ("||", "or"))
        if sign == "??":
            first = self.looked_up(left)
            if isinstance(first, Unknown) and of_environment(left):
                return self.evaluate(right)
            if isinstance(first, Unknown):
                return joined([UNKNOWN, self.fork(lambda: self.evaluate(right))])
            return self.evaluate(right) if first is None else first
        if sign == "instanceof":
            return self._instance(self.evaluate(left), right)
        first, second = self.evaluate(left), self.evaluate(right)
        if sign == ".":
            first, second = self.as_text(first), self.as_text(second)
        if sign in ORDER and (isinstance(first, Unknown) or isinstance(second, Unknown)) and "PHP_" in part.text:
            self.world.opened(self)
        return self.operate(sign, first, second)

    def operate(self, sign: str, first: Any, second: Any) -> Any:
        """What two values come to with an operator between them."""
        self.world.looks.operated(sign, first, second)
        if sign in _SAME and (lists := [operand for operand in (first, second) if isinstance(operand, Loaded)]):
            told = self.world.held(self, lists[0], second if first is lists[0] else first)
            return told if isinstance(told, Unknown) else truth(told) is not sign.startswith("!")
        return joined_by(sign, first, second)

    def _either(self, left: Part | None, right: Part | None, *, deciding: bool) -> Any:
        """Of "a or b" each alone makes the whole true, of "a and b" false."""
        first = truth(self.evaluate(left))
        if first is deciding:
            if left is not None and right is not None and self._is_member(left):
                self.exempt(left, right)
            return deciding
        if first is not None:
            second = truth(self.evaluate(right))
            if second is deciding and left is not None and right is not None:
                self.exempt(left, right)
            return UNKNOWN if second is None else second
        told: list[bool | None] = []
        self.fork(lambda: told.append(truth(self.evaluate(right))), lambda: None)
        return deciding if told == [deciding] else UNKNOWN

    def as_text(self, value: Any) -> Any:
        """An object as the text that it says it is; anything else as it is."""
        return self.call_method(value, "__tostring", Given.of()) if isinstance(value, Instance) else value

    def exempt(self, *conditions: Part) -> None:
        """The rows of which all of some conditions ask something: no more comes of what stands in them."""
        asked = [self._rows(condition) for condition in conditions]
        self.exempted += [row for row in asked[0] if all(any(row is other for other in rows) for rows in asked[1:])]

    def _is_member(self, condition: Part) -> bool:
        """Whether a condition is a member of a row and nothing else, or a variable that holds one."""
        if name := _OF_VARIABLE.fullmatch(condition.text):
            return self.variable(name[1]) in self.taken_from
        return _OF_ROW.fullmatch(condition.text) is not None

    def _rows(self, condition: Part) -> list[Array]:
        """The rows of which a condition asks something, by their own names or by those of their members."""
        cells = [self.variable(name) for name in _VARIABLE.findall(condition.text) if name != "$this"]
        rows = (self.taken_from.get(cell, cell.value) for cell in cells)
        return [row for row in rows if isinstance(row, Array)]

    def _instance(self, value: Any, right: Part | None) -> Any:
        if isinstance(value, Instance) and right is not None and right.type in ("name", "qualified_name"):
            name = right.class_name
            if any(kind.name == name for kind in value.kind.line()):
                return True
            return UNKNOWN if not value.kind.whole else False
        return UNKNOWN if isinstance(value, (Unknown, Instance)) else False

    def _unary(self, part: Part) -> Any:
        value, sign = self.evaluate(part.get("argument")), part.sign
        if sign == "!":
            told = truth(value)
            return UNKNOWN if told is None else not told
        if sign in ("-", "+"):
            return lifted(lambda operand: limited(-number(operand) if sign == "-" else number(operand)), value)
        return UNKNOWN

    def _cast(self, part: Part) -> Any:
        value, kind = self.evaluate(part.get("value")), (part.fields["type"].text.strip("( )").lower())
        if kind in ("bool", "boolean"):
            told = truth(value)
            return UNKNOWN if told is None else told
        if kind not in ("string", "binary"):
            self.world.looks.given(kind, (value,))
        if kind in ("int", "integer"):
            return lifted(lambda operand: int(number(operand)), value)
        if kind in ("float", "double", "real"):
            return lifted(lambda operand: float(number(operand)), value)
        if kind in ("string", "binary"):
            value = self.as_text(value)
            return value if isinstance(value, Loaded) else lifted(written, value)
        if kind == "array":
            return lifted(
                lambda operand: (
                    operand if isinstance(operand, Array) else Array.of([] if operand is None else [operand])
                ),
                value,
            )
        return self.as_object(value) if kind == "object" else UNKNOWN
