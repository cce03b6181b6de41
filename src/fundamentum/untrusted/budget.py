"""How much is read of one server or one application, all in all, and for how long."""

import time
from typing import Final

from fundamentum.errors import HostError

MAX_BYTES: Final = 2 * 1024**3
"""All files together: a hundred times what a full server has."""
MAX_HELD: Final = 320 * 1024**2
"""Package indexes and the like, which stay in memory until everything is read."""
MAX_ENTRIES: Final = 3_000_000
"""Files and directories that are listed, looked at or opened."""
MAX_SECONDS: Final = 25.0


class Spent(HostError):
    """The budget is used up; the message says which part of it."""


class Budget:
    """What may still be read.  Once it is used up, it stays so."""

    def __init__(
        self, size: int = MAX_BYTES, entries: int = MAX_ENTRIES, seconds: float = MAX_SECONDS, held: int = MAX_HELD
    ) -> None:
        self.size, self.entries, self.held = size, entries, held
        self.seconds = seconds
        self.ends = time.monotonic() + seconds
        """When there is no time left, by the system's monotonic clock."""
        self._most = (size, entries, held)
        self.spent = ""
        """Why nothing more is read; empty as long as there is something left."""

    def entry(self, many: int = 1) -> None:
        """One more file or directory is looked at."""
        self.entries -= many
        if self.entries < 0:
            self._over(f"more than {self._most[1]:,} files and directories")
        self.tick()

    def read(self, size: int) -> None:
        """So many bytes of a file are read."""
        self.size -= size
        if self.size < 0:
            self._over(f"more than {self._most[0] >> 20:,} MiB of files")
        self.tick()

    def keep(self, size: int) -> None:
        """So many bytes stay in memory."""
        if size > self.held:
            raise Spent(f"together with the others larger than {self._most[2] >> 20:,} MiB: not read")
        self.held -= size

    def tick(self) -> None:
        """Work goes on: is there time left?"""
        if self.spent or time.monotonic() > self.ends:
            self._over(self.spent or f"more than {self.seconds:.0f} seconds of reading")

    def over(self) -> bool:
        """Whether it is used up, for those who rather ask."""
        try:
            self.tick()
        except Spent:
            return True
        return False

    def left(self) -> float:
        """The seconds that are left."""
        return max(self.ends - time.monotonic(), 0.0)

    def _over(self, what: str) -> None:
        self.spent = what
        raise Spent(f"reading stopped after {what}: what was not read by then is unknown")
