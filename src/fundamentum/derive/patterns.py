"""Patterns over megabytes of text, by libraries that are several times as fast as the standard one.

They exist for most machines, not for all; without them the standard library finds the same, in more time.
"""

import re
from collections.abc import Iterable, Mapping
from typing import Any

_GROUP_NAME = re.compile(rb"\(\?P<\w+>")


class Several:
    """Many patterns, each with a number, searched for in one pass."""

    def __init__(self, patterns: Mapping[int, re.Pattern[bytes]]) -> None:
        self.numbers = tuple(patterns)
        self._database = _compiled({number: one.pattern for number, one in patterns.items()}) if patterns else None

    def may_occur(self, text: bytes) -> Iterable[int]:
        """The numbers of the patterns that the text may hold; of some it turns out that it does not."""
        if self._database is None or not text:
            return self.numbers
        found: list[int] = []
        self._database.scan(text, match_event_handler=lambda number, *_: found.append(number))
        return found


def _compiled(patterns: Mapping[int, bytes]) -> Any:
    """A matcher for all of them at once; None where there is no such library or a pattern is beyond it."""
    try:
        import hyperscan  # noqa: PLC0415 — not there on every machine
    except ImportError:
        return None
    database = hyperscan.Database(mode=hyperscan.HS_MODE_BLOCK)
    # What lies around a match cannot be asked of this library: it is left out, and more may seem to match.
    flags = hyperscan.HS_FLAG_SINGLEMATCH | hyperscan.HS_FLAG_PREFILTER
    try:
        database.compile(
            expressions=[_GROUP_NAME.sub(b"(?:", one) for one in patterns.values()],
            ids=list(patterns),
            elements=len(patterns),
            flags=[flags] * len(patterns),
        )
    except hyperscan.error:
        return None
    return database


class Replaced:
    """A text with something else in place of all that a pattern without groups matches."""

    def __init__(self, pattern: re.Pattern[bytes], by: bytes) -> None:
        self._pattern, self._by = pattern, by
        self._machine_code: Any = None
        self._too_hard: type[Exception] = RuntimeError
        try:
            import pcre2  # noqa: PLC0415 — not there on every machine
        except ImportError:
            return
        self._machine_code = pcre2.compile(pattern.pattern, flags=pcre2.DOTALL, jit=True)
        self._too_hard = pcre2.LibraryError

    def __call__(self, text: bytes) -> bytes:
        """The text with the replacements."""
        if self._machine_code is not None:
            try:
                return bytes(self._machine_code.sub(self._by, text))
            except self._too_hard:  # it keeps to a small stack of its own
                pass
        return self._pattern.sub(self._by, text)
