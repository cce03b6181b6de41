"""Harvest which directives PHP shows as On or Off, and which time zones it knows: ``catalog/data/values.json``.

    sudo python tools/harvest_values.py ROOT...

Each ROOT is a root file system with a command-line PHP and the extensions that are to count; what one of them knows,
is known.  PHP's information page shows ``On`` and ``Off`` for a directive that is a switch, and a number for others.
"""

import json
import re
import subprocess
import sys
from pathlib import Path

OUTPUT = Path(__file__).parents[1] / "src/fundamentum/catalog/data/values.json"
ZONES = "echo implode(PHP_EOL, DateTimeZone::listIdentifiers(DateTimeZone::ALL_WITH_BC));"
_SWITCH = re.compile(r"^([a-z_][a-z0-9_.]+) => (?:On|Off) => (?:On|Off)$", re.M)


def of_php(root: str, *arguments: str) -> str:
    """What the root's own PHP prints, with its built-in values only."""
    return subprocess.run(["chroot", root, "php", *arguments], capture_output=True, text=True, check=True).stdout


def main(roots: list[str]) -> None:
    """All roots into one file."""
    switches: set[str] = set()
    zones: set[str] = set()
    for root in roots:
        switches.update(_SWITCH.findall(of_php(root, "-i")))
        zones.update(of_php(root, "-r", ZONES).split())
    OUTPUT.write_text(json.dumps({"switches": sorted(switches), "zones": sorted(zones)}, indent=0) + "\n")
    print(f"{len(switches)} switches, {len(zones)} time zones")


if __name__ == "__main__":
    main(sys.argv[1:])
