"""Processes that share the work on a large tree."""

import multiprocessing
import os
import signal
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, Final, TypeVar

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.application.walk import MAX_SIZE
from fundamentum.errors import FundamentumError
from fundamentum.untrusted.files import UNFOLLOWED

SMALL: Final = 2 * 1024 * 1024
"""Bytes up to which a second process costs more than it saves."""
MAX_PROCESSES: Final = 4
PATIENCE: Final = 60.0
"""Seconds for a few small files or one large one, which take less than one."""

T = TypeVar("T")


class Workers:
    """Processes that share the work, or none for a small tree.

    They begin as copies of this one: what it has imported and prepared by now, they have too.
    """

    def __init__(self, size: int) -> None:
        self.pool: Any = None
        count = min(os.cpu_count() or 1, MAX_PROCESSES)
        if size > SMALL and count > 1 and "fork" in multiprocessing.get_all_start_methods():
            # An interrupt from the keyboard reaches the whole group, but is for this process, which ends the others:
            # one that ended by itself would take its file along, and its result would be waited for without end.
            before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
            self.pool = multiprocessing.get_context("fork").Pool(count)
            signal.pthread_sigmask(signal.SIG_SETMASK, before)

    def __enter__(self) -> "Workers":
        return self

    def __exit__(self, *_: object) -> None:
        if self.pool is not None:
            self.pool.terminate()
            self.pool.join()

    def map(self, work: Callable[[Any], T], items: Sequence[Any], chunk: int) -> Iterator[T]:
        """The results in order.  The processes begin at once, whether or not anybody waits for a result."""
        if self.pool is None or len(items) < 4:
            return map(work, items)
        return _in_time(self.pool.imap(work, items, chunk))


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


_root = ""


def work_in(root: str) -> None:
    """Set the application's directory, for this process and for those that begin later."""
    global _root
    _root = root


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
        return data
    except OSError:
        return None
    finally:
        os.close(handle)
