"""How long Fundamentum takes, as ratios against something known, measured in turns within one run.

    python benchmarks/run.py [ROOT]

ROOT is a Debian root file system with PHP and the full package index; without it (or without root rights) only
the first comparison is made.  The machines this runs on are noisy: read the ratio of the medians.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from debian_root import Root

FUNDAMENTUM = str(Path(sys.executable).with_name("fundamentum"))
NEEDS = """\
format = 1
[application]
name = "nightlog"
[extensions]
required = ["intl", "mbstring", "pdo_mysql", "curl"]
"""
SITE = """\
server {
    server_name site@.example;
    root /srv/site@/public;
    index index.php;
    location ~ \\.php$ { include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/php%-fpm.sock; }
}
"""
UNREAD = ["-o", "Dir::Cache::pkgcache=", "-o", "Dir::Cache::srcpkgcache="]
DUMP = f"apt-cache {' '.join(UNREAD)} dumpavail"
"""Read from the lists, as the survey does, and not from a cache that an earlier run has left."""
PACKAGES = ["curl", "intl", "mbstring", "mysql"]


def seconds(command: list[str], folder: str) -> float:
    """Wall time of one run."""
    start = time.perf_counter()
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    taken = time.perf_counter() - start
    if done.returncode not in (0, 1) or "Traceback" in done.stderr:
        raise SystemExit(f"{command} failed: {done.stderr}")
    return taken


def compare(title: str, ours: list[str], theirs: list[str], folder: str, limit: float, runs: int = 11) -> None:
    """Run both in turns and print the medians and their ratio."""
    pairs = [(seconds(ours, folder), seconds(theirs, folder)) for _ in range(runs + 1)][1:]
    one, two = (statistics.median(column) for column in zip(*pairs, strict=True))
    print(f"{title}: {one * 1000:.0f} ms against {two * 1000:.0f} ms, ratio {one / two:.2f} (wanted: at most {limit})")


def branch_of(root: str) -> str:
    """The newest PHP that is installed there."""
    return sorted(path.name for path in Path(root, "etc/php").iterdir())[-1]


def set_up(root: Root, sites: int, branch: str) -> None:
    """Sites of nginx, each with a tree of its own."""
    for number in range(sites):
        at = f"/srv/site{number}/public"
        for folder in ("", *(f"part{part}/" for part in range(20))):
            root.write(f"{at}/{folder}index.php", "<?php\n")
        if number % 3 == 0:
            root.write(f"{at}/.user.ini", "memory_limit = 200M\n")
        root.write(f"/etc/nginx/sites-enabled/site{number}", SITE.replace("@", str(number)).replace("%", branch))


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "nightlog.needs.toml").write_text(NEEDS)
        for ours, theirs, limit in (("--version", "pass", 2), ("--help", "import argparse", 1.5)):
            title = f"fundamentum {ours} against a bare interpreter with '{theirs}'"
            compare(title, [FUNDAMENTUM, ours], [sys.executable, "-c", theirs], folder, limit, 25)
        if len(sys.argv) < 2 or os.geteuid() != 0:
            print("no root file system given (or no root rights): the comparison with apt is left out")
            return
        branch = branch_of(sys.argv[1])
        plan = [FUNDAMENTUM, "plan", "nightlog.needs.toml", "--server", sys.argv[1]]
        plan += ["--runtime", f"{branch}/fpm", "--format", "json"]
        asked = ["-s", "install", "--no-install-recommends", *(f"php{branch}-{package}" for package in PACKAGES)]
        apt = ["chroot", sys.argv[1], "apt-get"]
        title = "plan --format json against apt-get -s install of the same packages"
        compare(title, plan, [*apt, *asked], folder, 0.3)
        afresh = ["sh", "-c", 'XDG_CACHE_HOME=$(mktemp -d -p "$PWD") exec "$@"', "sh", *plan]
        title = "the same, where only apt has read the package indexes before"
        compare(title, afresh, [*apt, *asked], folder, 0.45)
        title = "the same, where neither has"
        compare(title, afresh, [*apt, *UNREAD, *asked], folder, 0.45, 5)
        for sites, limit in ((0, 1.0), (50, 1.5)):
            with Root(Path(sys.argv[1])).layer(Path(folder) / "layer") as root:
                set_up(root, sites, branch)
                compare(
                    f"survey with {sites} sites against php -i, dpkg-query -W and apt-cache dumpavail together",
                    [FUNDAMENTUM, "survey", str(root.path), "-o", os.devnull],
                    ["chroot", str(root.path), "sh", "-c", f"php{branch} -i; dpkg-query -W; {DUMP}"],
                    folder,
                    limit,
                )


if __name__ == "__main__":
    main()
