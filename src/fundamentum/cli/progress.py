"""How far a long run is, on a terminal."""

import sys
import time


class Progress:
    """One line on a terminal that says how far a long run is."""

    def __init__(self) -> None:
        self.shown = ""
        self.wanted = sys.stderr.isatty()
        self.start = time.monotonic()

    def __call__(self, what: str, done: int, total: int) -> None:
        text = f"{what}: {100 * done // max(total, 1)} % of {total} files"
        if self.wanted and time.monotonic() - self.start > 0.7 and text != self.shown:
            sys.stderr.write(f"\r{text:<50}")
            sys.stderr.flush()
            self.shown = text

    def end(self) -> None:
        if self.shown:
            sys.stderr.write("\r" + " " * 50 + "\r")
            sys.stderr.flush()
