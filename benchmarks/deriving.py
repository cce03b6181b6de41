"""Deriving an application's needs against PHP's own tokenizer on the same tree: medians of alternating runs.

    python benchmarks/deriving.py TREE [RUNS]

TREE is any directory with PHP code; tell-tale from 50 MB on.  Needs a ``php`` on the path.  Cold is a run that reads
everything; again is a run on the unchanged tree.  Memory is the peak of the largest process.
"""

import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

TOKENIZE = r"""
ini_set('memory_limit', '2G');
$bytes = 0; $tokens = 0;
$all = new RecursiveIteratorIterator(new RecursiveDirectoryIterator($argv[1], FilesystemIterator::SKIP_DOTS));
foreach ($all as $file) {
    if (!$file->isFile() || $file->isLink() || $file->getExtension() !== 'php') continue;
    $text = file_get_contents($file->getPathname());
    $bytes += strlen($text);
    $tokens += count(token_get_all($text));
}
printf("%.1f MB, %d tokens\n", $bytes / 1e6, $tokens);
"""


def timed(*command: str, **environment: str) -> tuple[float, str]:
    start = time.perf_counter()
    done = subprocess.run(command, env=os.environ | environment, capture_output=True, text=True, check=True)
    return time.perf_counter() - start, done.stdout


def main() -> None:
    tree, runs = sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 5
    program = str(Path(sys.executable).with_name("fundamentum"))
    with tempfile.TemporaryDirectory() as cache:
        tokens, cold, again = [], [], []
        for _ in range(runs):
            seconds, said = timed("php", "-n", "-d", "extension=tokenizer", "-r", TOKENIZE, tree)
            tokens.append(seconds)
            cold.append(timed(program, "derive", "--fresh", tree, "-o", "-", XDG_CACHE_HOME=cache)[0])
            again.append(timed(program, "derive", tree, "-o", "-", XDG_CACHE_HOME=cache)[0])
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024
    base = statistics.median(tokens)
    print(f"{said.strip()}: tokenizer {base:.2f} s")
    print(f"derive, cold  {statistics.median(cold):.2f} s, {statistics.median(cold) / base:.2f} times the tokenizer")
    print(f"derive, again {statistics.median(again):.2f} s, {statistics.median(again) / base:.2f} times the tokenizer")
    print(f"memory, the largest of all processes (the tokenizer's included): {peak} MB")


if __name__ == "__main__":
    main()
