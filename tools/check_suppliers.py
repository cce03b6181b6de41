"""Hold the catalogue's table of commands against a release's own lists of files.

    python tools/check_suppliers.py ROOT

ROOT is a root file system whose apt keeps those lists ("Contents").  Prints every command that one of the table's
packages does not bring there; a package that another release or family has is expected among them.
"""

import sys
from pathlib import Path

from fundamentum.catalog.suppliers import suppliers
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.platforms.debian.contents import bringing

if __name__ == "__main__":
    table = suppliers().commands
    found = bringing(DirectoryHost(Path(sys.argv[1]), "root"), table)
    for name, packages in sorted(table.items()):
        brought = found.get(name, [])
        if not set(packages) & set(brought):
            print(f"{name}: table {', '.join(packages)}; lists {', '.join(brought[:5]) or 'nothing'}")
