"""Processes that share the work on a large tree."""

import gc
import itertools
import multiprocessing
import os
import re
import signal
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from typing import Any, Final, TypeVar

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.application.walk import MAX_SIZE
from fundamentum.errors import FundamentumError
from fundamentum.untrusted.files import UNFOLLOWED

SMALL: Final = 200_000
"""Bytes up to which a second process costs more than it saves."""
MAX_PROCESSES: Final = 4
PATIENCE: Final = 60.0
"""Seconds for a few small files or one large one, which take less than one."""

READ_TOGETHER: Final = 200_000
"""Bytes of files that are read again by one process at a time."""

T = TypeVar("T")
Given = TypeVar("Given")


class Workers:
    """Processes that share the work, or none for a small tree.

    They begin as copies of this one: what it has imported and prepared by now, they have too.
    """

    def __init__(self, size: int) -> None:
        self.pool: Any = None
        count = 1 if _alone else min(os.cpu_count() or 1, MAX_PROCESSES)
        if size > SMALL and count > 1 and "fork" in multiprocessing.get_all_start_methods():
            # An interrupt from the keyboard reaches the whole group, but is for this process, which ends the others:
            # one that ended by itself would take its file along, and its result would be waited for without end.
            before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
            self.pool = multiprocessing.get_context("fork").Pool(count, _begin)
            signal.pthread_sigmask(signal.SIG_SETMASK, before)

    def __enter__(self) -> "Workers":
        return self

    def __exit__(self, *_: object) -> None:
        if self.pool is not None:
            self.pool.terminate()
            self.pool.join()

    def each(
        self, work: Callable[[bytes, Given], T], files: Iterable[SourceFile], given: Given, ends: float
    ) -> Iterator[tuple[SourceFile, T]]:
        """What some work comes to on each file, in order: ``work(content, given)``; what cannot be read is empty.

        As far as there is time: see :meth:`map`.
        """
        batches = list(batched(files, READ_TOGETHER))
        tasks = [(work, [(file.path, file.size) for file in batch], given) for batch in batches]
        for batch, told in zip(batches, self.map(_on_each, tasks, ends), strict=False):
            yield from zip(batch, told, strict=True)

    def map(self, work: Callable[[Any], T], items: Sequence[Any], ends: float) -> Iterator[T]:
        """The results in order.  The processes begin at once, whether or not anybody waits for a result.

        At the time ``ends``, by the system's monotonic clock, nothing more is begun, and there are no more results:
        what is to be done next would have to wait for it.
        """
        do = partial(_unless_late, work, ends)
        return _begun(map(do, items) if self.pool is None or len(items) < 2 else _in_time(self.pool.imap(do, items)))


_alone = False


def alone() -> None:
    """From now on this process shares its work with no other: there are others like it beside it."""
    global _alone
    _alone = True


_LATE: Final = None
"""The result of what was not begun."""


def _unless_late(work: Callable[[Any], T], ends: float, item: Any) -> T | None:
    return work(item) if time.monotonic() < ends else _LATE


def _begun(results: Iterator[T | None]) -> Iterator[T]:
    for result in results:
        if result is _LATE:
            return
        yield result


def _begin() -> None:
    """A process begins."""
    # What it has from the one that started it stays: nobody has to go through it for what is referred to no more.
    gc.freeze()
    # Of trees and their parts, most live long: to look through all of them again and again takes a tenth of the time.
    gc.set_threshold(50_000, 20, 50)


def _in_time(results: Any) -> Iterator[Any]:
    """The results of a pool, which itself waits without end for a process that the system has ended."""
    while True:
        try:
            yield results.next(PATIENCE)
        except StopIteration:
            return
        except multiprocessing.TimeoutError:
            raise FundamentumError(
                "a process that reads the application has ended without a result, or hangs; is there enough memory?"
            ) from None


def batched(files: Iterable[SourceFile], size: int) -> Iterator[list[SourceFile]]:
    """The files in groups of about so many bytes."""
    batch: list[SourceFile] = []
    total = 0
    for file in files:
        batch.append(file)
        total += file.size
        if total >= size:
            yield batch
            batch, total = [], 0
    if batch:
        yield batch


def _on_each(task: tuple[Callable[[bytes, Given], T], Sequence[tuple[str, int]], Given]) -> list[T]:
    work, files, given = task
    return [work(contents(path, size) or b"", given) for path, size in files]


_root = ""


def work_in(root: str) -> None:
    """Set the application's directory, for this process and for those that begin later."""
    global _root
    _root = root


_HALT: Final = re.compile(rb"\b__halt_compiler\s{0,9}\(\s{0,9}\)\s{0,9}(?:;|\?>)", re.I)
"""Where PHP stops reading a file: what follows is data."""


MAX_HALTS: Final = 100
MAX_LINE: Final = 2000
"""Bytes of a line that are looked at in front of it."""


def _without_attached(data: bytes) -> bytes:
    """A source file up to where PHP stops reading it: an archive that can be run is one, with all its files behind."""
    if b"__halt_compiler" not in data and b"__HALT_COMPILER" not in data:
        return data
    block = data.find(b"<<<") if b"<<<" in data else len(data)
    for match in itertools.islice(_HALT.finditer(data), MAX_HALTS):
        before = data[max(match.start() - MAX_LINE, 0) : match.start()].rpartition(b"\n")[2]
        binary = b"\0" in data[match.end() : match.end() + 64]
        # In quotes, or in a block of text, it is what the program writes into a file of that kind.
        if binary or not (before.count(b"'") % 2 or before.count(b'"') % 2 or block < match.start()):
            return data[: match.end()]
    return data


def contents(path: str, size: int = 0) -> bytes | None:
    """A source file, as far as it may be read; None: it cannot be.  ``size``: as it was when it was listed."""
    try:
        handle = os.open(f"{_root}/{path}", UNFOLLOWED)
    except OSError:
        return None
    try:
        wanted = min(size + 1, MAX_SIZE) if size else MAX_SIZE
        data = os.read(handle, wanted)
        while len(data) == wanted < MAX_SIZE:  # it has grown since
            wanted = MAX_SIZE
            data += os.read(handle, MAX_SIZE - len(data))
        return _without_attached(data)
    except OSError:
        return None
    finally:
        os.close(handle)
