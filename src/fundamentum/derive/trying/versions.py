"""How a program looks at the version of PHP that it runs on: what it compares it with, and whether it does more.

On two versions that stand alike to all that they are compared with, a program does the same: one run is enough.
"""

import itertools
import re
from collections.abc import Iterable
from typing import Any, Final

from fundamentum.derive.trying.operators import ORDER
from fundamentum.derive.trying.values import Array, OneOf, Unknown

Version = tuple[int, int, int]
MAX_COMPARED: Final = 90
LAST_MAJOR: Final = 99
"""A greater number is a whole version, as ``PHP_VERSION_ID`` has it."""
MAX_LOOKED: Final = 500
"""Values that are looked at in a list: lists that hold each other have no end."""
_WRITTEN: Final = re.compile(r"(\d{1,3})(?:\.(\d{1,2}))?(?:\.(\d{1,2}))?((?:[-.]?[a-zA-Z]\w*)?)")
_ONLY_SHOW: Final = frozenset(
    "version_compare sprintf printf vsprintf echo print error_log trigger_error is_string is_int is_numeric "
    "htmlspecialchars htmlentities rtrim ltrim ucfirst _ __ gettext esc_html".split()
)
"""Functions to which it is all the same which version it is, or which compare it."""


def of_number(number: int) -> Version:
    """The version that a number as ``PHP_VERSION_ID`` stands for."""
    return number // 10000, number // 100 % 100, number % 100


class Looks:
    """What one run of a program made of the version."""

    def __init__(self, version: Version) -> None:
        self.version = version
        self.text = "{}.{}.{}".format(*version)
        self.number = version[0] * 10000 + version[1] * 100 + version[2]
        self.apart = False
        """Whether it was looked at otherwise than as a whole: each version may then be one of its own."""
        self.compared: dict[str, Version] = {}
        """What it was compared with, as it is written."""

    def operated(self, sign: str, first: Any, second: Any) -> None:
        """An operator stood between two values."""
        if self._is_one(first):
            other = second
        elif self._is_one(second):
            other = first
        else:
            return
        if sign in ORDER or sign in _EQUAL:
            for operand in other.values if isinstance(other, OneOf) else [other]:
                self._compared_with(operand)
        elif sign != ".":
            self.apart = True

    def given(self, name: str, values: Iterable[Any]) -> None:
        """A function of PHP's was called with some values."""
        if name not in _ONLY_SHOW and any(map(self.in_value, values)):
            self.apart = True

    def held_against(self, first: Any, second: Any) -> None:
        """``version_compare`` was called with two values."""
        for own, others in ((first, second), (second, first)):
            if own == self.text:
                for other in others.values if isinstance(others, OneOf) else [others]:
                    if isinstance(other, str):
                        self._take(str(other))

    def same_on(self, version: Version) -> bool:
        """Whether the program does the same on another version."""
        return not self.apart and all(
            (self.version > border) == (version > border) and (self.version < border) == (version < border)
            for border in self.compared.values()
        )

    def _is_one(self, value: Any) -> bool:
        return value == self.number if type(value) is int else isinstance(value, str) and value == self.text

    def in_value(self, value: Any) -> bool:
        """Whether the version stands somewhere in a value, or in what it looks like, as far as that is looked at."""
        left = [value]
        for _ in range(MAX_LOOKED):
            if not left:
                return False
            operand = left.pop()
            if isinstance(operand, (Array, tuple)):
                left += itertools.islice(
                    operand.items.values() if isinstance(operand, Array) else operand, MAX_COMPARED
                )
            elif self.text in operand if isinstance(operand, str) else operand == self.number and type(operand) is int:
                return True
        return False

    def _compared_with(self, value: Any) -> None:
        if isinstance(value, Unknown):
            return
        if type(value) is int and value > LAST_MAJOR:
            self._take("{}.{}.{}".format(*of_number(value)).removesuffix(".0"))
        else:
            self.apart = True  # as texts, or as a number that is read from a text, versions have another order
            if isinstance(value, str) or type(value) is int:
                self._take(str(value))

    def _take(self, written: str) -> None:
        match = _WRITTEN.fullmatch(written)
        if match is None or len(self.compared) >= MAX_COMPARED:
            self.apart = True
            return
        plain = written[: match.start(4)] if match[4] else written
        self.compared[plain] = int(match[1]), int(match[2] or 0), int(match[3] or 0)


_EQUAL: Final = frozenset({"==", "!=", "<>", "===", "!==", "<=>"})
