"""Attack the program with mutated input for as long as it is told: attack.py NUMBER [SEED].

Prints what failed, with the seed that makes it again, and the figures at the end.
"""

import gc
import os
import random
import resource
import sys
import tempfile
import time
import traceback
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.hostile.attacks import attack


def run(number: int, seed: int) -> int:
    """The number of attacks that went wrong."""
    failed = 0
    codes: Counter[int] = Counter()
    slowest, start = (0.0, 0), time.monotonic()
    with tempfile.TemporaryDirectory() as place:
        os.environ["XDG_CACHE_HOME"] = f"{place}/cache"
        for one in range(seed, seed + number):
            try:
                done = attack(random.Random(one), Path(place, "attack"))
                codes[done.code] += 1
                slowest = max(slowest, (done.seconds, one))
            except Exception:
                failed += 1
                print(f"seed {one}:", traceback.format_exc(limit=-6), sep="\n", flush=True)
            if one % 50 == 0:
                gc.collect()
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
    print(
        f"{number} attacks in {time.monotonic() - start:.0f} s, {failed} failed; exit codes {dict(sorted(codes.items()))}; "
        f"slowest {slowest[0]:.1f} s (seed {slowest[1]}); most memory {memory} MiB"
    )
    return failed


if __name__ == "__main__":
    sys.exit(min(run(int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1), 1))
