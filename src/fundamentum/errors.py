"""The errors of the core.  Each message is one line that says what is wrong, where, and what to do."""


class FundamentumError(Exception):
    """The base of all errors that a user can cause; the command line turns it into exit code 2."""


class InputError(FundamentumError):
    """A file the user gave cannot be used.  Names the file and, where there is one, the line."""

    def __init__(self, where: str, what: str, line: int | None = None) -> None:
        self.where, self.what, self.line = where, what, line
        super().__init__(f"{where}:{line}: {what}" if line else f"{where}: {what}")


class ChoiceNeeded(FundamentumError):
    """More than one answer is possible and guessing would be wrong; the message lists the choices."""


class HostError(Exception):
    """Something on a server is there but cannot be read, or not all of it.  The message says why, for a remark."""
