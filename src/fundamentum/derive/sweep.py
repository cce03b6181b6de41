"""A quick look at every file of a tree, for the words and constructs that make it worth parsing.

A tree of fifty megabytes is looked at as fast as PHP itself splits it into tokens; parsing all of it would take many
times as long.
"""

import marshal
from collections.abc import Callable, Sequence
from functools import cache
from typing import Final, NamedTuple

import msgspec

from fundamentum.derive.libraries import LibraryNames
from fundamentum.derive.quoted import (
    INCLUDING,
    TAKING,
    called_by_name,
    checked_in,
    drivers_in,
    included_in,
    listed_in,
)
from fundamentum.derive.source import CHECKS
from fundamentum.derive.syntax import RULES, Rules
from fundamentum.derive.tree import SourceFile
from fundamentum.derive.wishes import COMMANDS, DIRECTORIES, LIMITS, SETTINGS
from fundamentum.derive.words import code_of, defines_one, extensions_of, interesting, words_in
from fundamentum.derive.workers import Workers, batched, contents, work_in
from fundamentum.untrusted.budget import Budget, Spent

Progress = Callable[[str, int, int], None]
"""Called with what is being done, how much of it is done, and how much there is."""

_LOOKED_INTO: Final = TAKING | {word.encode() for word in CHECKS}
_CONNECTING: Final = frozenset({b"pdo", b"dsn"})
_SETTING_WORDS: Final = frozenset(word.encode() for word in SETTINGS)
_LIMIT_NAMES: Final = tuple(name.encode() for name in LIMITS)
MAX_REMARKS: Final = 50
LARGE: Final = 60_000
"""Bytes from which a file is parsed only if no smaller one tells the same."""
SWEPT_TOGETHER: Final = 400_000
"""Bytes of files that one process looks at before it tells."""
NAMES_LIMIT: Final = b"*limit"
"""Stands among the words of a file that speaks of a setting and of one of the limits."""
DEFINES: Final = b"*defines"
"""Stands among the words of a file that asks for functions and defines some of the same names."""
LISTS: Final = b"*lists"
"""Stands among the words of a file with several names of extensions in quotes."""
_EVERYDAY_NAMES: Final = frozenset(
    "json xml zip date session filter standard hash core http event phar random ps ds ast uri redis zlib".split()
)
"""Names of extensions that stand in quotes for many other reasons."""
SAMPLED: Final = (
    (frozenset({NAMES_LIMIT}), 25),
    (frozenset(word.encode() for word in COMMANDS), 25),
    (frozenset(word.encode() for word in DIRECTORIES), 15),
    (frozenset({b"php_version_id", b"version_compare"}), 25),
)
"""Words, and how many of the files with one of them are parsed."""


class Swept(msgspec.Struct, frozen=True, gc=False):
    """The interesting words of one file."""

    file: SourceFile
    words: frozenset[bytes]
    extensions: frozenset[str]
    checked: frozenset[str]
    """The extensions that it asks for; ``?``: some that it names elsewhere."""
    stopping: frozenset[str]
    """Those of them without which the program may stop there."""
    constructs: tuple[int, ...]
    """Rules of syntax, by number, that may apply."""


_Look = tuple[frozenset[bytes], frozenset[str], frozenset[str], frozenset[str], tuple[int, ...]]
"""What ``Swept`` tells beside the file."""


class _Setting(NamedTuple):
    """What holds for every file of the tree."""

    libraries: LibraryNames
    rules: Rules
    words: frozenset[bytes]


_setting: _Setting


class Sweep:
    """The quick look at a tree's files, going on in the background where there is more than one process."""

    def __init__(self, root: str, files: Sequence[SourceFile], libraries: LibraryNames, rules: Rules) -> None:
        global _setting
        self.files = files
        # Bundled libraries say themselves which PHP they need; their syntax counts only where there is nothing else.
        parts = {"own", "optional"} if any(file.part == "own" for file in files) else {"bundled"}
        groups = [[f for f in files if (f.part in parts) == counting] for counting in (True, False)]
        self._batches = [batch for group in groups for batch in batched(group, SWEPT_TOGETHER)]
        work_in(root)
        _setting = _Setting(libraries, rules, _swept_words(libraries))
        self.workers = Workers(sum(file.size for file in files))
        tasks = [([(f.path, f.size) for f in batch], batch[0].part in parts) for batch in self._batches]
        self._results = self.workers.map(_sweep, tasks, 1)

    def finished(self, progress: Progress, remarks: list[str], budget: Budget) -> list[Swept]:
        """The outcome for every file that could be read, in the order of looking, as far as there is time."""
        out: list[Swept] = []
        done = 0
        for batch, packed in zip(self._batches, self._results, strict=True):
            looks: list[_Look | None] = marshal.loads(packed)
            for file, look in zip(batch, looks, strict=True):
                if look is None:
                    remarks += [f"{file.path} cannot be read: passed over"] if len(remarks) < MAX_REMARKS else []
                else:
                    out.append(Swept(file, *look))
            done += len(batch)
            progress("looking", done, len(self.files))
            try:
                budget.tick()
            except Spent:
                return out
        return out


def _sweep(task: tuple[Sequence[tuple[str, int]], bool]) -> bytes:
    """Look at some files.  The answer, a list of ``_Look`` or None, is packed: that way it travels fastest."""
    files, syntax_counts = task
    return marshal.dumps([_look(path, size, syntax_counts) for path, size in files])


def _look(path: str, size: int, syntax_counts: bool) -> _Look | None:
    data = contents(path, size)
    if data is None:
        return None
    code, blocks = code_of(data)
    words = words_in(code, _setting.words)
    checked = stopping = frozenset[str]()
    constructs = _setting.rules.among(code, words, blocks) if syntax_counts else ()
    if _setting.libraries.directories and words & INCLUDING:
        words |= included_in(data) & _setting.libraries.directories.keys()
    lists = size < LARGE and (b"extension_loaded" in words or b"extensions" in code)
    if lists and len(names := listed_in(data)) > 2:
        words |= frozenset() if names <= _EVERYDAY_NAMES else {LISTS}
    if words & _SETTING_WORDS and (b"set_time_limit" in words or any(name in data for name in _LIMIT_NAMES)):
        words |= {NAMES_LIMIT}
    if words & _LOOKED_INTO:
        lowered = data.lower()
        checked, stopping = checked_in(data, lowered, words)
        if checked and defines_one(code, words):
            words |= {DEFINES}
        words |= {lowered[start:end] for start, end in called_by_name(lowered, words)} & interesting()
    extensions = extensions_of(words)
    if not words.isdisjoint(_CONNECTING):
        extensions |= drivers_in(data.lower(), connects=b"pdo" in words)
    return words, extensions, checked, stopping, constructs


@cache
def _common_words() -> frozenset[bytes]:
    words = {word for rule in RULES for word in rule.words} | {word for words, _ in SAMPLED for word in words}
    return interesting() | TAKING | INCLUDING | _CONNECTING | words


def _swept_words(libraries: LibraryNames) -> frozenset[bytes]:
    return _common_words() | libraries.classes.keys()
