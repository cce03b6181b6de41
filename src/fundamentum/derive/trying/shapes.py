"""What values of a program that is tried out look like, to be compared with those of another run."""

from typing import Any, Final

from fundamentum.derive.trying.values import Array, Instance, OneOf

MAX_DEPTH: Final = 3
MAX_SHAPE: Final = 40
MAX_SHAPED: Final = 8_000
"""Values that are looked at together."""


class Shapes:
    """What values look like, to be compared with those of another run; some of what is large is left out."""

    def __init__(self) -> None:
        self._left = MAX_SHAPED

    def of(self, value: Any, depth: int = 0) -> Any:
        """What one looks like."""
        self._left -= 1
        if self._left < 0 or depth == MAX_DEPTH:
            return value if isinstance(value, (bool, int, float, str, type(None))) else type(value).__name__
        if isinstance(value, Array):
            members = list(value.items.items())[:MAX_SHAPE]
            return value.loose, tuple((key, self.of(member, depth + 1)) for key, member in members)
        if isinstance(value, OneOf):
            return tuple(self.of(member, depth + 1) for member in value.values)
        if isinstance(value, Instance) and value.made:
            cells = list(value.members.items())[:MAX_SHAPE]
            return value.kind.name, tuple((name, self.of(cell.value, depth + 1)) for name, cell in cells)
        return value if isinstance(value, (bool, int, float, str, type(None))) else type(value).__name__


def shape(value: Any) -> Any:
    """What a value looks like, to be compared with that of another run."""
    return Shapes().of(value)
