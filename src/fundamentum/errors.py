"""The errors of the core.  Each message is one line that says what is wrong, where, and what to do."""

from collections.abc import Sequence


class FundamentumError(Exception):
    """The base of all errors that a user can cause; the command line turns it into exit code 2."""


class InputError(FundamentumError):
    """A file the user gave cannot be used.  Names the file and, where there are such, the line and the column."""

    def __init__(self, where: str, what: str, line: int | None = None, column: int | None = None) -> None:
        self.where, self.what, self.line, self.column = where, what, line, column
        place = ":".join(str(part) for part in (where, line, column if line else None) if part is not None)
        super().__init__(f"{place}: {what}")


class InputErrors(InputError):
    """Several things are wrong with one file; the message has a line for each."""

    def __init__(self, errors: Sequence[InputError]) -> None:
        first = errors[0]
        super().__init__(first.where, first.what, first.line, first.column)
        self.args = ("\n".join(dict.fromkeys(map(str, errors))),)


class SeveralApplications(InputError):
    """A directory holds several applications, each in a directory of its own, of which one has to be named."""

    def __init__(self, where: str, names: Sequence[str]) -> None:
        self.names = tuple(names)
        super().__init__(where, f"holds several applications: {', '.join(names[:8])}; name one of them")


class ChoiceNeeded(FundamentumError):
    """More than one answer is possible and guessing would be wrong; the message lists the choices."""


class HostError(Exception):
    """Something on a server is there but cannot be read, or not all of it.  The message says why, for a remark."""
