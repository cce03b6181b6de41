"""Going through a tree: a quick look at every file, and a close one at those that can still change the answer.

A tree of fifty megabytes is looked at as fast as PHP itself splits it into tokens; parsing all of it would take many
times as long.  So every file is first searched for interesting words.  Then, for each extension, files that speak of
it are parsed, the application's own and the smallest first, until its level cannot change any more.
"""

import multiprocessing
import os
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cache
from multiprocessing.pool import Pool
from typing import Any, Final, NamedTuple, TypeVar

import msgspec

from fundamentum.derive.facts import FileFacts, Syntax
from fundamentum.derive.libraries import LibraryNames
from fundamentum.derive.reader import read_source
from fundamentum.derive.source import CHECKS, Source
from fundamentum.derive.syntax import RULES, Candidates, found_in
from fundamentum.derive.tree import SourceFile, Tree
from fundamentum.derive.walk import MAX_SIZE
from fundamentum.derive.wishes import COMMANDS, DIRECTORIES, LIMITS, SETTINGS
from fundamentum.derive.words import (
    INCLUDING,
    TAKING,
    called_by_name,
    checked_in,
    code_of,
    defines_one,
    extensions_of_word,
    included_in,
    interesting,
    listed_in,
    words_in,
)

Progress = Callable[[str, int, int], None]
"""Called with what is being done, how much of it is done, and how much there is."""

SMALL: Final = 2 * 1024 * 1024
"""Bytes up to which a second process costs more than it saves."""
ENOUGH: Final = 3
"""Files with a plain use after which an extension's level is settled."""
MAX_PROCESSES: Final = 4

T = TypeVar("T")


class Swept(msgspec.Struct, frozen=True):
    """The interesting words of one file."""

    file: SourceFile
    words: frozenset[bytes]
    extensions: frozenset[str]
    checked: frozenset[str]
    """The extensions that it asks for; ``?``: some that it names elsewhere."""
    constructs: tuple[int, ...]
    """Rules of syntax, by number, that may apply."""


class Workers:
    """Processes that share the work, or none for a small tree."""

    def __init__(self, tree: Tree, libraries: LibraryNames, rules: Sequence[int]) -> None:
        total = sum(file.size for file in tree.sources)
        count = min(os.cpu_count() or 1, MAX_PROCESSES)
        _setup(tree.root, libraries, Candidates(rules))
        interesting()
        self.pool: Pool | None = None
        if total > SMALL and count > 1 and "fork" in multiprocessing.get_all_start_methods():
            self.pool = multiprocessing.get_context("fork").Pool(count)

    def __enter__(self) -> "Workers":
        return self

    def __exit__(self, *_: object) -> None:
        if self.pool is not None:
            self.pool.terminate()
            self.pool.join()

    def map(self, work: Callable[[Any], T], items: Sequence[Any], chunk: int) -> Iterator[T]:
        """The results in order."""
        if self.pool is None or len(items) < 4:
            return map(work, items)
        return self.pool.imap(work, items, chunk)


_ROOT = ""
_LIBRARIES = LibraryNames()
_CANDIDATES = Candidates(())


def _setup(root: str, libraries: LibraryNames, candidates: Candidates) -> None:
    global _ROOT, _LIBRARIES, _CANDIDATES
    _ROOT, _LIBRARIES, _CANDIDATES = root, libraries, candidates
    _swept_words.cache_clear()


def contents(path: str) -> bytes | None:
    """A source file, as far as it may be read; None: it cannot be."""
    try:
        handle = os.open(f"{_ROOT}/{path}", os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
    except OSError:
        return None
    try:
        data = os.read(handle, MAX_SIZE)
        while len(data) < MAX_SIZE and (more := os.read(handle, MAX_SIZE - len(data))):
            data += more
        return data
    except OSError:
        return None
    finally:
        os.close(handle)


class _Look(NamedTuple):
    words: frozenset[bytes]
    checked: frozenset[str]
    constructs: tuple[int, ...]


def _sweep(task: tuple[Sequence[str], bool]) -> list[_Look | None]:
    paths, syntax_counts = task
    wanted = _swept_words()
    out: list[_Look | None] = []
    for path in paths:
        data = contents(path)
        if data is None:
            out.append(None)
            continue
        code = code_of(data)
        words = words_in(code, wanted)
        checked: frozenset[str] = frozenset()
        constructs = _CANDIDATES.among(code, words, data) if syntax_counts else ()
        if _LIBRARIES.directories and words & INCLUDING:
            words |= included_in(data) & _LIBRARIES.directories.keys()
        if (b"extension_loaded" in words or b"extensions" in code) and len(names := listed_in(data)) > 2:
            words |= frozenset() if names <= _EVERYDAY_NAMES else {_LISTS}
        if words & _SETTING_WORDS and (b"set_time_limit" in words or any(name in data for name in _LIMIT_NAMES)):
            words |= {_NAMES_LIMIT}
        if words & _LOOKED_INTO:
            lowered = data.lower()
            checked |= checked_in(lowered, words)
            if checked and defines_one(code, words):
                words |= {_DEFINES}
            words |= {lowered[start:end] for start, end in called_by_name(lowered, words)} & interesting()
        out.append(_Look(words, checked, constructs))
    return out


@cache
def _swept_words() -> frozenset[bytes]:
    words = {word for rule in RULES for word in rule.words} | {word for words, _ in _SAMPLED for word in words}
    return interesting() | TAKING | INCLUDING | words | _LIBRARIES.classes.keys()


def _read(task: tuple[str, frozenset[bytes]]) -> FileFacts | None:
    path, words = task
    data = contents(path)
    if data is None:
        return None
    try:
        return read_source(data, words)
    except RecursionError:
        return FileFacts(broken=True)


def _confirm(task: tuple[str, tuple[int, ...]]) -> tuple[Syntax, ...]:
    path, rules = task
    data = contents(path)
    if not data:
        return ()
    try:
        return tuple(found_in(Source(data), [RULES[number] for number in rules]))
    except RecursionError:
        return ()


def sweep(workers: Workers, files: Sequence[SourceFile], progress: Progress, remarks: list[str]) -> list[Swept]:
    """The interesting words of every file, and which of the rules of syntax may apply to it."""
    table = extensions_of_word()
    # Bundled libraries say themselves which PHP they need; only where there is nothing else does their syntax count.
    parts = {"own", "optional"} if any(file.part == "own" for file in files) else {"bundled"}
    batches = [*_batches([f for f in files if f.part in parts]), *_batches([f for f in files if f.part not in parts])]
    out: list[Swept] = []
    done = 0
    for batch, results in zip(
        batches,
        workers.map(_sweep, [([f.path for f in b], b[0].part in parts) for b in batches], 1),
        strict=True,
    ):
        for file, result in zip(batch, results, strict=True):
            if result is None:
                remarks.append(f"{file.path} cannot be read: passed over")
                continue
            extensions = frozenset(e for word in result.words if word in table for e in table[word])
            out.append(Swept(file, result.words, extensions, result.checked, result.constructs))
        done += len(batch)
        progress("looking", done, len(files))
    return out


def _batches(files: Sequence[SourceFile], size: int = 400_000) -> Iterator[list[SourceFile]]:
    batch: list[SourceFile] = []
    total = 0
    for file in files:
        batch.append(file)
        total += file.size
        if total > size:
            yield batch
            batch, total = [], 0
    if batch:
        yield batch


_CHECK_WORDS: Final = frozenset(word.encode() for word in CHECKS)
_LOOKED_INTO: Final = TAKING | _CHECK_WORDS
_SETTING_WORDS: Final = frozenset(word.encode() for word in SETTINGS)
_LIMIT_NAMES: Final = tuple(name.encode() for name in LIMITS)
_NAMES_LIMIT: Final = b"*limit"
"""Stands among the words of a file that speaks of a setting and of one of the limits."""
_DEFINES: Final = b"*defines"
"""Stands among the words of a file that asks for functions and defines some of the same names."""
_LISTS: Final = b"*lists"
"""Stands among the words of a file with several names of extensions in quotes."""
_EVERYDAY_NAMES: Final = frozenset(
    "json xml zip date session filter standard hash core http event phar random ps ds ast uri redis zlib".split()
)
"""Names of extensions that stand in quotes for many other reasons."""
_SAMPLED: Final = (
    (frozenset({_NAMES_LIMIT}), 25),
    (frozenset(word.encode() for word in COMMANDS), 25),
    (frozenset(word.encode() for word in DIRECTORIES), 15),
    (frozenset({b"php_version_id", b"version_compare"}), 25),
)
LARGE: Final = 60_000
"""Bytes from which a file is parsed only if no smaller one tells the same."""
CHECKED: Final = 4
"""Files with a check and a word of an extension that are parsed first; more only where they can change something."""
_RANK: Final = {"own": 0, "optional": 1, "bundled": 2, "aside": 3}


class Reading:
    """Which files have been parsed, and what they told."""

    def __init__(self, workers: Workers, swept: Sequence[Swept], progress: Progress) -> None:
        self.workers, self.progress = workers, progress
        self.swept = swept
        self.facts: dict[str, FileFacts] = {}
        self.words = {one.file.path: one.words for one in swept}
        self.extensions = {one.file.path: one.extensions for one in swept}

    def read(self, files: Iterable[SourceFile]) -> None:
        """Parse these, unless they have been."""
        sizes = {file.path: file.size for file in files if file.path not in self.facts}
        wanted = sorted(sizes, key=lambda path: -sizes[path])  # the largest first: no process waits for it at the end
        tasks = [(path, self.words[path]) for path in wanted]
        for number, (path, facts) in enumerate(zip(wanted, self.workers.map(_read, tasks, 1), strict=True)):
            self.facts[path] = facts or FileFacts(broken=True)
            self.progress("reading", number + 1, len(wanted))

    def first(self) -> None:
        """Files that ask for extensions, set settings, run commands."""
        chosen: list[SourceFile] = []
        asked: dict[str, int] = {}
        sampled = [0] * len(_SAMPLED)
        for one in sorted(self.swept, key=lambda one: (_RANK[one.file.part], one.file.size)):
            if one.file.part == "aside":
                continue
            wanted = _DEFINES in one.words or (_LISTS in one.words and one.file.size < LARGE)
            if one.file.part != "bundled":
                for extension in one.checked:
                    asked[extension] = asked.get(extension, 0) + 1
                    wanted = wanted or asked[extension] <= (CHECKED if one.file.size < LARGE else 1)
                for number, (words, count) in enumerate(_SAMPLED):
                    if one.words & words and sampled[number] < count and one.file.size < LARGE:
                        sampled[number] += 1
                        wanted = True
            if wanted:
                chosen.append(one.file)
        self.read(chosen)

    def settle(self, extensions: Iterable[str], settled: Callable[[str], bool]) -> None:
        """Parse on for each extension until it is settled or nothing is left that speaks of it."""
        waiting = {extension: self._speaking_of(extension) for extension in extensions}
        step = ENOUGH
        while waiting:
            batch: dict[str, SourceFile] = {}
            planned: Counter[str] = Counter()
            for extension in list(waiting):
                rest = [file for file in waiting[extension] if file.path not in self.facts]
                if not rest or settled(extension):
                    del waiting[extension]
                    continue
                waiting[extension] = rest
            for extension in sorted(waiting, key=lambda name: len(waiting[name])):
                for file in waiting[extension]:
                    if planned[extension] >= step:
                        break
                    if file.path not in batch:
                        batch[file.path] = file
                        planned.update(self.extensions[file.path])
            self.read(batch.values())
            step *= 2

    def _speaking_of(self, extension: str) -> list[SourceFile]:
        """Files with words of the extension, the most telling first; of bundled libraries only some."""
        own = [one.file for one in self.swept if extension in one.extensions and one.file.part in ("own", "optional")]
        bundled = [one.file for one in self.swept if extension in one.extensions and one.file.part == "bundled"]
        own.sort(key=lambda file: (_RANK[file.part], file.size))
        return own + sorted(bundled, key=lambda file: file.size)[:ENOUGH]


def confirm(
    workers: Workers, candidates: Iterable[tuple[str, tuple[int, ...]]], rules: Sequence[int], enough: int = 3
) -> list[tuple[str, Syntax]]:
    """(path, construct) where parsing confirms one of the rules; a few places are enough."""
    wanted = set(rules)
    tasks = [(path, fitting) for path, numbers in candidates if (fitting := tuple(wanted.intersection(numbers)))]
    found: list[tuple[str, Syntax]] = []
    for start in range(0, len(tasks), 64):
        part = tasks[start : start + 64]
        for task, syntax in zip(part, workers.map(_confirm, part, 4), strict=True):
            found += [(task[0], one) for one in syntax]
        if len(found) >= enough:
            break
    return found
