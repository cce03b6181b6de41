"""Hold the versions of PHP that are derived against what the real PHP of three branches says of the same source.

    sudo python tools/lint_bounds.py

Takes the packages that ``tools/measure_derive.py bookworm`` has unpacked, lints every PHP file of the applications' own
with PHP 7.4, 8.2 and 8.4 in a root of the Debian release that has it, and prints each package of which a version is
derived that this PHP cannot read, with the first file.  Files that are included under some versions only are left out.
"""

import re
import subprocess
import tempfile
from collections import defaultdict
from pathlib import Path

from debian_root import base
from measure_derive import STORE

from fundamentum.derive.application.listing import Listing
from fundamentum.derive.application.walk import tree_of
from fundamentum.derive.derive import derive
from fundamentum.errors import InputError
from fundamentum.model.constraints import intervals

RELEASES = {"7.4": "bullseye", "8.2": "bookworm", "8.4": "trixie"}
FAILED = re.compile(r"(?:Parse|Fatal|syntax) error.* in (/srv/trees/([^/]+)/.+?) on line \d+", re.I)
# Whatever the last file of a batch ends with, the next batch is looked at, too: xargs stops at 255, which PHP ends with.
SCRIPT = "xargs -0 -n 40 -P 2 sh -c 'for file; do php -n -l \"$file\" 2>&1 || :; done' sh"


def accepted(value: str, branch: str) -> bool:
    """Whether a range of versions holds a branch."""
    number = (*map(int, branch.split(".")), 0)
    return any(
        interval.low[:2] <= number[:2] and number < interval.high[: len(number)] for interval in intervals(value)
    )


def failures(release: str, branch: str, files: list[str]) -> dict[str, list[str]]:
    """Package → its files that the PHP of a branch cannot read."""
    with tempfile.TemporaryDirectory(dir="/var/tmp") as folder, base(release).layer(Path(folder, "layer")) as root:
        root.install(f"php{branch}-cli")
        inside = root.path / "srv/trees"
        inside.mkdir(parents=True)
        subprocess.run(["mount", "--bind", str(STORE / "bookworm"), str(inside)], check=True)
        try:
            listed = "\0".join(f"/srv/trees/{file}" for file in files)
            done = subprocess.run(
                ["chroot", str(root.path), "sh", "-c", SCRIPT],
                input=listed,
                capture_output=True,
                text=True,
                errors="replace",
            )
        finally:
            subprocess.run(["umount", str(inside)], check=True)
    found: dict[str, list[str]] = defaultdict(list)
    for match in FAILED.finditer(done.stdout):
        found[match[2]].append(match[1].removeprefix(f"/srv/trees/{match[2]}/"))
    return found


def main() -> None:
    ranges: dict[str, str] = {}
    files: list[str] = []
    for folder in sorted((STORE / "bookworm").iterdir()):
        try:
            derived = derive(folder)
        except InputError:
            continue
        ranges[folder.name] = next((entry.value for entry in derived.of_kind("php")), "")
        files += [
            f"{folder.name}/{source_file.path}"
            for source_file in tree_of(Listing(str(folder))).sources
            if source_file.part == "own"
        ]
    print(f"{len(ranges)} packages, {sum(map(bool, ranges.values()))} with a version of PHP, {len(files)} files")
    wrong = 0
    for branch, release in RELEASES.items():
        broken = failures(release, branch, files)
        for name, paths in sorted(broken.items()):
            if not ranges.get(name) or accepted(ranges[name], branch):
                wrong += bool(ranges.get(name))
                said = ranges.get(name) or "nothing derived"
                print(f"{branch}: {name} ({said}): {len(paths)} files, {', '.join(paths[:3])}")
    print(f"{wrong} contradictions")


if __name__ == "__main__":
    main()
