"""How many examples of generated input a test makes."""

import os
from typing import Final

WHOLE: Final = os.environ.get("FUNDAMENTUM_REAL") == "1"
"""Whether everything is run, as ``.ci/run`` does; else what takes minutes is left out, and fewer examples are made."""


def examples(number: int) -> int:
    """That number where everything is run; else a quarter of it."""
    return number if WHOLE else max(number // 4, 10)
