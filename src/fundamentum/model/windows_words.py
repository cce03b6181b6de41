"""Windows' ways of writing what this program holds otherwise: paths with backslashes, words on one command line."""

import re
from collections.abc import Sequence
from typing import Final

from fundamentum.lazy_regex import lazy_regex

_UNQUOTED: Final = lazy_regex(r"[\w.:/\\%@+-]+", re.A)
"""Words that neither cmd.exe nor the programs it starts take apart."""
DRIVE: Final = "C:"
"""The drive that a path is shown with: the one that Windows is on unless it was installed otherwise."""


def windows_line(words: Sequence[str]) -> str:
    """A command as it is typed into cmd.exe.  Source: Microsoft's documentation of ``CommandLineToArgvW``."""
    return " ".join(word if _UNQUOTED.fullmatch(word) else f'"{word}"' for word in words)


def shown_path(path: str) -> str:
    r"""A path as Windows shows it: ``C:\PHP\php.ini`` of ``/PHP/php.ini``."""
    return DRIVE + path.replace("/", "\\")
