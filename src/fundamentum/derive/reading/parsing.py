"""Parsing those files that can still change the answer, each once.

Parsed are all files that hold a check, a list, a setting or the like; then, for each extension, files that speak of
it, the application's own and the smallest first, until no other file could change its level any more; at last, for
each branch of PHP, files with a construct or a symbol that came or went with it.
"""

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Final

import msgspec
from msgspec.structs import replace

from fundamentum.derive.application.tree import Given, Result, SourceFile
from fundamentum.derive.php_source.facts import Check, FileFacts, Gate, Wish
from fundamentum.derive.reading.reader import read_source
from fundamentum.derive.reading.scan import Progress, Scanned
from fundamentum.derive.reading.workers import Workers, batched, contents
from fundamentum.derive.statements.host_functions import apart
from fundamentum.untrusted.budget import Budget, Spent

READ_TOGETHER: Final = 15_000
"""Bytes of small files that one process reads at a time."""
_RANK: Final = {"own": 0, "optional": 1, "bundled": 2, "aside": 3}


_FACTS: Final = msgspec.msgpack.Decoder(list[FileFacts])
_Task = tuple[str, int, frozenset[bytes], tuple[int, ...]]
"""A file's path, size, interesting words, and the rules of syntax that may apply."""


def _read(tasks: Sequence[_Task]) -> bytes:
    """The facts of some files, packed: that way they travel fastest."""
    return msgspec.msgpack.encode([_facts(*task) for task in tasks])


def _facts(path: str, size: int, words: frozenset[bytes], constructs: tuple[int, ...]) -> FileFacts:
    data = contents(path, size)
    with suppress(RecursionError):
        if data is not None:
            return read_source(data, words, constructs)
    return FileFacts(broken=True)


class Parsing:
    """Which files have been parsed, and what they told."""

    def __init__(
        self,
        workers: Workers,
        scanned: Sequence[Scanned],
        progress: Progress,
        budget: Budget,
        *,
        everything: bool = False,
    ) -> None:
        """``everything``: parse all files, whether or not they can change the answer."""
        self.workers, self.progress, self.budget = workers, progress, budget
        self.scanned = sorted(
            scanned,
            key=lambda scanned_file: (_RANK[scanned_file.file.part], scanned_file.file.size, scanned_file.file.path),
        )
        self.everything = everything
        self.facts: dict[str, FileFacts] = {}
        self.speaking: dict[str, list[Scanned]] = defaultdict(list)
        """Extension → files with a word of it, the application's own and the smallest first."""
        for file in self.scanned:
            for extension in file.extensions if file.file.part != "aside" else ():
                self.speaking[extension].append(file)

    def read(self, files: Iterable[Scanned]) -> None:
        """Parse these, unless they have been; nothing once the time for the whole application is over."""
        wanted = {scanned.file.path: scanned for scanned in files if scanned.file.path not in self.facts}
        # The largest first: no process waits for it at the end.
        order = sorted(wanted.values(), key=lambda file: -file.file.size)
        batches = [[wanted[file.path] for file in batch] for batch in batched((o.file for o in order), READ_TOGETHER)]
        tasks = [
            [(scanned.file.path, scanned.file.size, scanned.words, scanned.constructs) for scanned in batch]
            for batch in batches
        ]
        done = 0
        for batch, packed in zip(batches, self.workers.map(_read, tasks, self.budget.ends), strict=False):
            self.facts.update(zip((scanned.file.path for scanned in batch), _FACTS.decode(packed), strict=True))
            self.budget.tick()
            done += len(batch)
            self.progress("reading", done, len(order))
        if done < len(order):
            self.budget.tick()

    def first(self) -> None:
        """Files that tell something by themselves."""
        counting = [scanned for scanned in self.scanned if scanned.file.part != "aside"]
        self.read(scanned for scanned in counting if self.everything or scanned.tells)

    def add(self, told: Mapping[str, Sequence[Check | Gate | Wish]]) -> None:
        """File → what of it is seen only once all files that tell something have been read."""
        self.read(scanned for scanned in self.scanned if told.get(scanned.file.path))
        for path, stated in told.items():
            if stated and (facts := self.facts.get(path)):
                checks, of_hosts = apart(fact for fact in stated if isinstance(fact, Check))
                gates = (*facts.gates, *(fact for fact in stated if isinstance(fact, Gate)))
                wishes = (*facts.wishes, *of_hosts, *(fact for fact in stated if isinstance(fact, Wish)))
                self.facts[path] = replace(facts, checks=_together(facts.checks, checks), gates=gates, wishes=wishes)

    def each(
        self, work: Callable[[bytes, Given], Result], files: Iterable[SourceFile], given: Given
    ) -> Iterator[tuple[SourceFile, Result]]:
        """Some work on the content of each file, as ``application.tree.Each`` says, until the time is over."""
        with suppress(Spent):
            self.budget.tick()
            for results in self.workers.each(work, files, given, self.budget.ends):
                yield results
                self.budget.tick()
            self.budget.tick()

    def settle(self, settled: Callable[[str, Sequence[Scanned]], bool]) -> None:
        """Parse on for each extension until it is settled, or nothing is left that speaks of it.

        ``settled`` is told the extension and the files that are left.
        """
        waiting: Mapping[str, Sequence[Scanned]] = self.speaking
        step = 2
        while waiting := dict(self._unsettled(waiting, settled)):
            self.read({file.file.path: file for files in waiting.values() for file in files[:step]}.values())
            step *= 2

    def _unsettled(
        self, waiting: Mapping[str, Sequence[Scanned]], settled: Callable[[str, Sequence[Scanned]], bool]
    ) -> Iterator[tuple[str, list[Scanned]]]:
        for extension, files in waiting.items():
            left = [file for file in files if file.file.path not in self.facts]
            if left and not settled(extension, left):
                yield extension, left

    def read_until(self, files: Sequence[Scanned], enough: Callable[[], bool]) -> None:
        """Parse some after the other, the smallest first, until that is enough."""
        left = sorted(
            (scanned for scanned in files if scanned.file.path not in self.facts), key=lambda file: file.file.size
        )
        step = 4
        while left and not enough():
            self.read(left[:step])
            left, step = left[step:], step * 2


def _together(listed: Iterable[Check], tried: Iterable[Check]) -> tuple[Check, ...]:
    """What stands in lists, and what came of it where it was tried out: that tells more than how a list is called."""
    every = tuple(tried)
    going_on = {(check.extension, check.line) for check in every if check.outcome == "goes-on"}
    left = (
        check
        for check in listed
        if not (check.outcome.startswith("listed") and (check.extension, check.line) in going_on)
    )
    return (*left, *(replace(check, outcome="warns") if check.outcome == "goes-on" else check for check in every))
