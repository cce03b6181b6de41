"""A close look at those files that can still change the answer.

For each extension, files that speak of it are parsed, the application's own and the smallest first, until its level
cannot change any more.
"""

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from typing import Final

import msgspec

from fundamentum.catalog.symbols import EVERYWHERE
from fundamentum.derive.facts import FileFacts, Syntax
from fundamentum.derive.reader import read_source
from fundamentum.derive.source import Source
from fundamentum.derive.sweep import DEFINES, LARGE, LISTS, SAMPLED, Progress, Swept
from fundamentum.derive.syntax import RULES, found_in
from fundamentum.derive.tree import SourceFile
from fundamentum.derive.words import code_of
from fundamentum.derive.workers import Workers, batched, contents
from fundamentum.untrusted.budget import Budget

ENOUGH: Final = 2
"""Files with a plain use after which an extension's level is settled."""
CHECKED: Final = 3
"""Files with a check and a word of an extension that are parsed first; more only where they can change something."""
LARGE_COUNTS: Final = 8
"""How many small files, among those read for what they set or run, a large one stands for."""
AT_ONCE: Final = 16
"""Files that are parsed for a construct before it is asked whether those are enough."""
READ_TOGETHER: Final = 15_000
"""Bytes of small files that one process reads at a time."""
_RANK: Final = {"own": 0, "optional": 1, "bundled": 2, "aside": 3}


_FACTS: Final = msgspec.msgpack.Decoder(list[FileFacts])
_Task = tuple[str, int, frozenset[bytes]]
"""A file's path, size and interesting words."""


def _read(tasks: Sequence[_Task]) -> bytes:
    """The facts of some files, packed: that way they travel fastest."""
    return msgspec.msgpack.encode([_facts(*task) for task in tasks])


def _facts(path: str, size: int, words: frozenset[bytes]) -> FileFacts:
    data = contents(path, size)
    try:
        return FileFacts(broken=True) if data is None else read_source(data, words)
    except RecursionError:
        return FileFacts(broken=True)


def _confirm(task: tuple[str, Sequence[int]]) -> tuple[Syntax, ...]:
    path, rules = task
    data = contents(path)
    if not data:
        return ()
    code, _ = code_of(data)
    rules = tuple(number for number in rules if RULES[number].raw or RULES[number].pattern.search(code))
    if not rules:
        return ()
    try:
        return tuple(found_in(Source(data), [RULES[number] for number in rules]))
    except RecursionError:
        return ()


class Reading:
    """Which files have been parsed, and what they told."""

    def __init__(self, workers: Workers, swept: Sequence[Swept], progress: Progress, budget: Budget) -> None:
        self.workers, self.progress, self.budget = workers, progress, budget
        self.swept = swept
        self.facts: dict[str, FileFacts] = {}
        self.words = {one.file.path: one.words for one in swept}
        self.speaking: dict[str, list[Swept]] = {}
        """Extension → files with a word of it."""
        for one in swept:
            if one.file.part != "aside":
                for extension in one.extensions:
                    self.speaking.setdefault(extension, []).append(one)

    def read(self, files: Iterable[SourceFile]) -> None:
        """Parse these, unless they have been; nothing once the time for the whole application is over."""
        wanted = {file.path: file for file in files if file.path not in self.facts}
        # The largest first: no process waits for it at the end.
        order = sorted(wanted.values(), key=lambda file: -file.size)
        batches = list(batched(order, READ_TOGETHER))
        tasks = [[(file.path, file.size, self.words[file.path]) for file in batch] for batch in batches]
        done = 0
        for batch, packed in zip(batches, self.workers.map(_read, tasks, 1), strict=True):
            self.facts.update(zip((file.path for file in batch), _FACTS.decode(packed), strict=True))
            self.budget.tick()
            done += len(batch)
            self.progress("reading", done, len(order))

    def first(self) -> None:
        """Files that ask for extensions, set settings, run commands."""
        chosen: list[SourceFile] = []
        asked: dict[str, int] = {}
        sampled = [0] * len(SAMPLED)
        for one in sorted(self.swept, key=lambda one: (_RANK[one.file.part], one.file.size)):
            if one.file.part == "aside":
                continue
            wanted = DEFINES in one.words or (LISTS in one.words and one.file.size < LARGE)
            if one.file.part != "bundled":
                for extension in one.checked - EVERYWHERE:
                    asked[extension] = asked.get(extension, 0) + 1
                    wanted = wanted or asked[extension] <= (CHECKED if one.file.size < LARGE else 1)
                weight = 1 if one.file.size < LARGE else LARGE_COUNTS
                for number, (words, count) in enumerate(SAMPLED):
                    if one.words & words and sampled[number] + weight <= count:
                        sampled[number] += weight
                        wanted = True
            if wanted:
                chosen.append(one.file)
        self.read(chosen)

    def settle(self, extensions: Iterable[str], settled: Callable[[str, Sequence[Swept]], bool]) -> None:
        """Parse on for each extension until it is settled, or nothing is left that speaks of it.

        ``settled`` is told the extension and the files that are left.
        """
        waiting = {extension: self._speaking_of(extension) for extension in extensions}
        step = ENOUGH
        while waiting:
            batch: dict[str, SourceFile] = {}
            planned: Counter[str] = Counter()
            for extension in list(waiting):
                rest = [one for one in waiting[extension] if one.file.path not in self.facts]
                if not rest or settled(extension, rest):
                    del waiting[extension]
                    continue
                waiting[extension] = rest
            for extension in sorted(waiting, key=lambda name: len(waiting[name])):
                for one in waiting[extension]:
                    if planned[extension] >= step:
                        break
                    if one.file.path not in batch:
                        batch[one.file.path] = one.file
                        planned.update(one.extensions)
            self.read(batch.values())
            step *= 2

    def _speaking_of(self, extension: str) -> list[Swept]:
        """Files with words of the extension, the most telling first; of bundled libraries only some."""
        files = sorted(self.speaking.get(extension, ()), key=lambda one: (_RANK[one.file.part], one.file.size))
        own = [one for one in files if one.file.part != "bundled"]
        return files[: len(own) + ENOUGH]


class Constructs:
    """Files that may hold a construct, by rule."""

    def __init__(self, swept: Sequence[Swept]) -> None:
        self._order = {one.file.path: number for number, one in enumerate(swept)}
        self._fitting: dict[int, list[str]] = {}
        for one in swept:
            for rule in one.constructs:
                self._fitting.setdefault(rule, []).append(one.file.path)

    def confirmed(self, workers: Workers, rules: Iterable[int], budget: Budget) -> list[tuple[str, Syntax]]:
        """(path, construct) where parsing confirms one of the rules; a few places are enough."""
        fitting: dict[str, list[int]] = {}
        for rule in rules:
            for path in self._fitting.get(rule, ()):
                fitting.setdefault(path, []).append(rule)
        tasks = sorted(fitting.items(), key=lambda task: self._order[task[0]])
        found: list[tuple[str, Syntax]] = []
        for start in range(0, len(tasks), AT_ONCE):
            part = tasks[start : start + AT_ONCE]
            for task, syntax in zip(part, workers.map(_confirm, part, 2), strict=True):
                found += [(task[0], one) for one in syntax]
                if len(found) >= ENOUGH or budget.over():
                    return found
        return found
