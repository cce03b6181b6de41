"""Harvest what is known of PHP's own words into ``catalog/data/values.json``: which directives it shows as On or Off,
which time zones it knows, and which functions every PHP has.

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
FUNCTIONS = (
    "foreach (explode(' ', 'core standard spl date pcre reflection hash random json') as $name)"
    " echo implode(PHP_EOL, get_extension_funcs($name) ?: []), PHP_EOL; echo PHP_VERSION;"
)
ZONES = "echo implode(PHP_EOL, DateTimeZone::listIdentifiers(DateTimeZone::ALL_WITH_BC));"
_SWITCH = re.compile(r"^([a-z_][a-z0-9_.]+) => (?:On|Off) => (?:On|Off)$", re.M)


def of_php(root: str, *arguments: str) -> str:
    """What the root's own PHP prints, with its built-in values only."""
    return subprocess.run(["chroot", root, "php", *arguments], capture_output=True, text=True, check=True).stdout


def main(roots: list[str]) -> None:
    """All roots into one file."""
    switches: set[str] = set()
    zones: set[str] = set()
    functions: dict[str, set[str]] = {}
    for root in roots:
        switches.update(_SWITCH.findall(of_php(root, "-i")))
        zones.update(of_php(root, "-r", ZONES).split())
        # Not those of a root alone: functions that are switched off are not listed.
        *names, version = of_php(root, "-d", "disable_functions=", "-r", FUNCTIONS).split()
        for name in names:
            functions.setdefault(name, set()).add(".".join(version.split(".")[:2]))
    by_branches: dict[str, list[str]] = {}
    for name, branches in sorted(functions.items()):
        by_branches.setdefault(" ".join(sorted(branches)), []).append(name)
    found = {"switches": sorted(switches), "zones": sorted(zones), "functions": by_branches}
    OUTPUT.write_text(json.dumps(found, indent=None) + "\n")
    print(f"{len(switches)} switches, {len(zones)} time zones, {len(functions)} functions")


if __name__ == "__main__":
    main(sys.argv[1:])
