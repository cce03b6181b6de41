"""A quick look at every file of a tree, for the words and constructs that make it worth parsing.

Looking for words takes a tenth of the time that parsing does.  A file that is not parsed holds nothing that could
change what is derived: ``reading`` says what is parsed, and a test derives with everything parsed and compares.
"""

import marshal
import time
from collections.abc import Callable, Sequence
from functools import cache
from typing import Final, NamedTuple

import msgspec

from fundamentum.derive.application.libraries import LibraryNames
from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.families import COMPARED, LIMITS, SWITCHES, TEXTS
from fundamentum.derive.php_source.bare_code import all_words, code_of
from fundamentum.derive.php_source.name_beginnings import begun_in
from fundamentum.derive.php_source.quoted import (
    INCLUDING,
    TAKING,
    asks,
    called_by_name,
    drivers_in,
    included_in,
    listed_in,
    speaks_of_extensions,
)
from fundamentum.derive.php_source.source import CHECKS
from fundamentum.derive.php_source.syntax import RULES, Rules
from fundamentum.derive.reading.spots import CALLED_VARIABLE, MADE_VARIABLE, NAMED_CLASS, NAMED_IN_VARIABLE, streams_in
from fundamentum.derive.reading.words import defines_one, extensions_of, interesting, telling_names, words_in
from fundamentum.derive.reading.workers import Workers, batched, contents, work_in
from fundamentum.derive.statements import (
    asking_calls,
    chained_calls,
    configured_directories,
    limit_tables,
    removed_functions,
    uploaded_sizes,
    version_gates,
)
from fundamentum.derive.statements.checks import LISTING_DRIVERS
from fundamentum.derive.statements.wishes import (
    COMMANDS,
    DIRECTORIES,
    SETTINGS,
    STARTING,
    speaks_of_modules,
    speaks_of_rights,
)
from fundamentum.derive.statements.written_files import PLACES, WRITES
from fundamentum.untrusted.budget import Budget

Progress = Callable[[str, int, int], None]
"""Called with what is being done, how much of it is done, and how much there is."""

_CHECK_WORDS: Final = frozenset(word.encode() for word in CHECKS)
_SETTING_WORDS: Final = frozenset(word.encode() for word in SETTINGS)
_WISH_WORDS: Final = frozenset(word.encode() for word in COMMANDS | DIRECTORIES.keys())
_PROGRAMS: Final = (b"'/usr/", b'"/usr/', b"'/bin/", b'"/bin/', b"'/sbin/", b'"/sbin/')
_OF_VERSIONS: Final = (b"php_version", b"phpversion", b"php_major_version", b"version_compare")
_LIMIT_NAMES: Final = tuple(
    name.encode() for name in (*LIMITS, *sorted({*COMPARED, *SWITCHES, *TEXTS, "disable_functions"}))
)
MAX_REMARKS: Final = 50
LARGE: Final = 60_000
"""Bytes from which a list of names in quotes is one of something else: translations, types of files."""
FOR_LOOKING: Final = 0.6
"""The part of the time that may go by until all files have been looked at: what tells most is still to be read then."""
SCANNED_TOGETHER: Final = 400_000
"""Bytes of files that one process looks at before it tells."""


class Scanned(msgspec.Struct, frozen=True, gc=False):
    """What the quick look at one file saw."""

    file: SourceFile
    words: frozenset[bytes]
    """The interesting words in its code."""
    extensions: frozenset[str]
    """Those of which a word stands in it."""
    tells: bool
    """Whether it may hold what counts by itself: a check, a list, a setting, a replacement, a word about versions."""
    constructs: tuple[int, ...]
    """Rules of syntax, by number, that may apply."""


_Look = tuple[frozenset[bytes], frozenset[str], bool, tuple[int, ...]]
"""What ``Scanned`` tells beside the file."""


class _Setting(NamedTuple):
    """What holds for every file of the tree."""

    libraries: LibraryNames
    rules: Rules
    words: frozenset[bytes]


_setting: _Setting


class Scan:
    """The quick look at a tree's files, going on in the background where there is more than one process."""

    def __init__(
        self, root: str, files: Sequence[SourceFile], libraries: LibraryNames, rules: Rules, budget: Budget
    ) -> None:
        global _setting
        self.files = files
        # Bundled libraries say themselves which PHP they need; their syntax counts only where there is nothing else.
        parts = {"own", "optional"} if any(file.part == "own" for file in files) else {"bundled"}
        groups = [[f for f in files if (f.part in parts) == counting] for counting in (True, False)]
        self._batches = [batch for group in groups for batch in batched(group, SCANNED_TOGETHER)]
        self.unreadable: list[SourceFile] = []
        """Files of the application's own that turned out to be so."""
        work_in(root)
        _setting = _Setting(libraries, rules, _words_looked_for(libraries))
        self.workers = Workers(sum(file.size for file in files))
        tasks = [([(f.path, f.size) for f in batch], batch[0].part in parts) for batch in self._batches]
        self._results = self.workers.map(_scan, tasks, time.monotonic() + budget.left() * FOR_LOOKING)

    def finished(self, progress: Progress, remarks: list[str], budget: Budget) -> list[Scanned]:
        """The outcome for every file that could be read, in the order of looking, as far as there is time."""
        out: list[Scanned] = []
        done = 0
        for batch, packed in zip(self._batches, self._results, strict=False):
            looks: list[_Look | None] = marshal.loads(packed)
            for file, look in zip(batch, looks, strict=True):
                if look is None:
                    self.unreadable += [file] if file.part == "own" else []
                    remarks += [f"{file.path} cannot be read: passed over"] if len(remarks) < MAX_REMARKS else []
                else:
                    out.append(Scanned(file, *look))
            done += len(batch)
            progress("looking", done, len(self.files))
            if budget.over():
                break
        if done < len(self.files):
            left = len(self.files) - done
            remarks.append(f"{left} of {len(self.files)} files were not looked at in time: needs may be missing")
        return out


def _scan(task: tuple[Sequence[tuple[str, int]], bool]) -> bytes:
    """Look at some files.  The answer, a list of ``_Look`` or None, is packed: that way it travels fastest."""
    files, syntax_counts = task
    return marshal.dumps([_look(path, size, syntax_counts) for path, size in files])


def _look(path: str, size: int, syntax_counts: bool) -> _Look | None:
    data = contents(path, size)
    if data is None:
        return None
    code, blocks = code_of(data)
    there = all_words(code)
    telling = telling_names(there)
    words = words_in(code, there, _setting.words) | telling
    constructs = _setting.rules.among(code, words, data, blocks) if syntax_counts else ()
    if _setting.libraries.directories and words & INCLUDING:
        words |= included_in(data) & _setting.libraries.directories.keys()
    lowered = data.lower()
    if words & TAKING:
        words |= {lowered[start:end] for start, end in called_by_name(lowered, words)} & interesting()
    if CALLED_VARIABLE.search(code):
        words |= {match[1] for match in NAMED_IN_VARIABLE.finditer(lowered)} & interesting()
    words |= {begun.example.encode() for begun in begun_in(lowered)}
    if MADE_VARIABLE.search(code):
        named = (match[2] or b"" for match in NAMED_CLASS.finditer(lowered))
        words |= {name.replace(b"\\\\", b"\\") for name in named} & interesting()
    extensions = extensions_of(words)
    if (connects := b"pdo" in lowered) or b"dsn" in lowered:
        extensions |= drivers_in(lowered, connects=connects)
    extensions = extensions.union(extension for _, _, extension, _ in streams_in(lowered))
    return words, extensions, bool(telling) or _tells(data, lowered, code, words), constructs


_PLACES: Final = tuple(name.encode() for name in PLACES)


def _tells(data: bytes, lowered: bytes, code: bytes, words: frozenset[bytes]) -> bool:
    if not words.isdisjoint(_CHECK_WORDS) and asks(data, lowered, words):
        return True
    if not words.isdisjoint(_WISH_WORDS) or defines_one(code, words) or _lists(data, lowered):
        return True
    if words & _SETTING_WORDS and (b"set_time_limit" in words or any(name in data for name in _LIMIT_NAMES)):
        return True
    if (b"ini_get" in words and b"ini_get($" in data) or uploaded_sizes.speaks(data):
        return True
    if b"`" in code or any(place in data for place in _PROGRAMS) or (b"Process" in data and STARTING.search(data)):
        return True
    if (b"_limit" in data or b"max_" in data) and limit_tables.TABLE.search(data):
        return True
    if speaks_of_rights(data) or (any(name in code for name in _PLACES) and WRITES.search(data)):
        return True
    if configured_directories.speaks(lowered):
        return True
    if asking_calls.BY_ARGUMENT.search(lowered):
        return True
    return (
        any(word in code for word in _OF_VERSIONS)
        or any(word in data for word in version_gates.NAMED)
        or version_gates.speaks(data, lowered)
        or chained_calls.speaks(data, lowered)
        or b"get_loaded_extensions" in data
        or speaks_of_modules(lowered)
        or LISTING_DRIVERS in lowered
        or removed_functions.speaks(data)
    )


def _lists(data: bytes, lowered: bytes) -> bool:
    """Whether names of extensions stand in quotes, and it speaks of extensions."""
    return len(data) < LARGE and speaks_of_extensions(lowered) and bool(listed_in(data))


@cache
def _common_words() -> frozenset[bytes]:
    return interesting() | TAKING | INCLUDING | {word for rule in RULES for word in rule.words}


def _words_looked_for(libraries: LibraryNames) -> frozenset[bytes]:
    return _common_words() | libraries.classes.keys()
