"""Several applications' directories, derived at the same time by processes that share the processors."""

import multiprocessing
import os
import sys
from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Final

from fundamentum.cli.derivation import derived
from fundamentum.derive.application import cache
from fundamentum.derive.application.cache import Answer
from fundamentum.derive.application.listing import Listing, application_in
from fundamentum.derive.reading import workers
from fundamentum.errors import FundamentumError

MAX_PROCESSES: Final = 4
SECONDS: Final = 40.0
"""For each application: one process has to do alone what two share elsewhere."""


def derived_together(directories: Iterable[Path]) -> dict[Path, Answer]:
    """What directories tell of which nothing is kept yet, as far as they can be used.

    Nothing where one process will do.  What keeps a directory from being used is said where it is asked for by itself.
    """
    new = [directory for directory in dict.fromkeys(directories) if not cache.any_of(str(directory))]
    count = min(os.cpu_count() or 1, len(new), MAX_PROCESSES)
    if count < 2 or "fork" not in multiprocessing.get_all_start_methods():
        return {}
    pool = ProcessPoolExecutor(count, multiprocessing.get_context("fork"), _begin)
    try:
        # The largest first: what begins last is waited for by all.
        by_size = sorted(zip(pool.map(_size, new), new, strict=True), reverse=True)
        new = [directory for _, directory in by_size]
        return {directory: answer for directory, answer in zip(new, pool.map(_derived, new), strict=True) if answer}
    except BrokenProcessPool:
        return {}  # the system ended one, for want of memory: one after the other they may fit
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _begin() -> None:
    """Each process works alone on its application, and in silence."""
    workers.alone()
    sys.stderr = open(os.devnull, "w")  # noqa: SIM115 — as long as the process lives


def _size(directory: Path) -> int:
    """Bytes of the files that may hold PHP."""
    return Listing(application_in(str(directory))).size


def _derived(directory: Path) -> Answer | None:
    try:
        return derived(directory, seconds=SECONDS)
    except FundamentumError:
        return None
