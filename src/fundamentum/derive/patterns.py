"""Patterns over megabytes of text, by libraries that are several times as fast as the standard one.

They exist for most machines, not for all; without them the standard library finds the same, in more time.
"""

import re
import threading
from collections.abc import Callable, Mapping
from typing import Any

_GROUP_NAME = re.compile(rb"\(\?P<\w+>")


class Several:
    """Many patterns, each with a number.

    ``much``: a lot of text is to come, and they are prepared, in the background, to be searched for in one pass;
    ``ready`` waits for that.
    """

    def __init__(self, patterns: Mapping[int, re.Pattern[bytes]], much: bool) -> None:
        self._patterns = patterns
        self._database: Any = None
        self._preparation = threading.Thread(target=self._prepare, daemon=True)
        if much:
            self._preparation.start()

    def ready(self) -> None:
        """Return when all is prepared that will be."""
        if self._preparation.ident is not None:
            self._preparation.join()

    def _prepare(self) -> None:
        self._database = _compiled({number: one.pattern for number, one in self._patterns.items()})

    def may_occur(self, text: bytes, counts: Callable[[int], bool]) -> list[int]:
        """The numbers, of those that count, of the patterns that the text may hold; some it does not hold after all."""
        if self._database is None:
            return [number for number, one in self._patterns.items() if counts(number) and one.search(text)]
        found: list[int] = []
        if text:
            self._database.scan(text, match_event_handler=lambda number, *_: found.append(number))
        return [number for number in found if counts(number)]


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
