"""Where a fact stands: a file, and the line in it."""

from fundamentum.model.safe_text import Text
from fundamentum.model.survey_fact import Fact


class Origin(Fact, frozen=True, array_like=True):
    """A line of a file, a file as a whole, or nothing: then the value is built in.  Written ``[FILE, LINE]``."""

    file: Text = ""
    line: int | None = None
    """Counted from 1.  0: the file is not there yet, and its package brings it with this value."""

    def __str__(self) -> str:
        if not self.file:
            return "built-in"
        if self.line is None:
            return self.file
        return f"{self.file}:{self.line}" if self.line else f"{self.file} (as packaged)"

    @property
    def built_in(self) -> bool:
        """Whether no file sets it."""
        return not self.file

    @property
    def set_in(self) -> str:
        """The file of the line that sets it; empty if no line does."""
        return self.file if self.line else ""


BUILT_IN = Origin()


class Overridden(Fact, frozen=True, array_like=True):
    """A line that sets a value too, but loses against a later one."""

    origin: Origin
    value: Text | None = None
    """None: it cannot be known."""

    def __str__(self) -> str:
        return f"{self.origin} ({'?' if self.value is None else self.value})"
