"""Interruptions from the keyboard that come where Python cannot raise them, as while a module is loaded.

Python would write a traceback, forget them and go on.
"""

import os
import signal
import sys
import threading
from typing import Final

SOON: Final = 0.02
"""Seconds until it comes once more."""


def unraisable(ignored: "sys.UnraisableHookArgs") -> None:
    """For ``sys.unraisablehook``: an interruption comes once more, anything else is told as ever."""
    if ignored.exc_type is KeyboardInterrupt:
        once_more()
    else:
        sys.__unraisablehook__(ignored)


def once_more() -> None:
    """Let an interruption that nobody has seen come again soon."""
    threading.Timer(SOON, os.kill, (os.getpid(), signal.SIGINT)).start()
