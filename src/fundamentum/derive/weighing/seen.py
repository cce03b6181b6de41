"""A use of an extension once the whole tree is known, and how an application's own files use it."""

from typing import NamedTuple

import msgspec

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.php_source.facts import Guard, Use


class Seen(msgspec.Struct, frozen=True):
    """One use, with the file it stands in and what protects it once the whole tree is known."""

    file: SourceFile
    use: Use
    guard: Guard
    driver: bool
    """In a file or class that is one of several alternatives."""

    @property
    def counts(self) -> bool:
        """It is the application's own, and fails without the extension."""
        return self.file.part in ("own", "optional") and not self.use.weak

    @property
    def plain(self) -> bool:
        """It runs whenever its file's code does, and fails without the extension."""
        return not (self.guard or self.use.weak or self.driver or self.file.part == "optional")


class Standing(NamedTuple):
    """Files of the application's own that use an extension."""

    plain: set[str]
    """Without a check."""
    protected: set[str]
    """Behind a check only."""
    instead: set[str]
    """Where another extension is missing, and without a check of its own."""
