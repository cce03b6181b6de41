"""Regular expressions of our own that are compiled when they are first used.

The program is started anew for every question, and a run uses a third of the patterns that its modules define:
compiling all of them took an eighth of its time.
"""

import re
from typing import Any, AnyStr, cast

_METHODS = ("search", "match", "fullmatch", "split", "findall", "finditer", "sub", "subn", "pattern", "flags", "groups")


class _Later:
    """What is asked for first compiles the pattern; from then on its methods are this object's own."""

    def __init__(self, text: Any, flags: int) -> None:
        self._text = text
        self._flags = flags

    def __getattr__(self, name: str) -> Any:
        if name not in _METHODS:
            raise AttributeError(name)
        compiled = re.compile(self._text, self._flags)
        self.__dict__.update({method: getattr(compiled, method) for method in _METHODS})
        return self.__dict__[name]


def lazy_regex(text: AnyStr, flags: int = 0) -> "re.Pattern[AnyStr]":
    """Like ``re.compile``, later: an error in the pattern shows at its first use, and in the tests."""
    return cast("re.Pattern[AnyStr]", _Later(text, flags))
