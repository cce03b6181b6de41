"""What a program that is tried out has written where, so that a way it may or may not go can be taken back."""

from typing import Any

from fundamentum.derive.trying.values import joined


class Cell:
    """What holds one value: a variable, a property; shared where the program says so (``&``)."""

    __slots__ = ("born", "value")

    def __init__(self, value: Any, born: int = 0) -> None:
        self.value = value
        self.born = born
        """When the object was made that it is a property of; 0: it is none."""


Scope = dict[str, Cell]
Written = dict[Cell, Any]
"""What was written last, by where."""


class Memory:
    """All writes, in order."""

    def __init__(self) -> None:
        self._before: list[tuple[Cell, Any]] = []

    def write(self, cell: Cell, value: Any) -> None:
        self._before.append((cell, cell.value))
        cell.value = value

    def mark(self) -> int:
        """The point to which ``undo`` goes back."""
        return len(self._before)

    def undo(self, mark: int) -> Written:
        """Take back all writes since; what they came to."""
        written = {cell: cell.value for cell, _ in self._before[mark:]}
        while len(self._before) > mark:
            cell, value = self._before.pop()
            cell.value = value
        return written

    def join(self, ways: list[Written], begun: int) -> None:
        """Write what one of some ways has written, as far as they agree.

        ``begun``: when the first was begun; objects that were made since are not there on the others.
        """
        for cell in dict.fromkeys(cell for way in ways for cell in way):
            own = (way[cell] for way in ways if cell in way)
            self.write(cell, joined(own if cell.born > begun else (way.get(cell, cell.value) for way in ways)))
