"""Harvest the built-in values of database servers' variables into ``catalog/data/databases.json``.

    sudo python tools/harvest_databases.py ROOT...

Each ROOT is a root file system with mariadb-server and postgresql.  Each server is started inside it with a new, empty
data directory and without any option file, asked by its own client, and ended by its process id.  What is a path, a
host's name or a number that follows from the machine is left out, and so is a switch for the faults of one application.
"""

import json
import re
import shutil
import subprocess
import sys
import time
from pathlib import Path

OUTPUT = Path(__file__).parents[1] / "src/fundamentum/catalog/data/databases.json"
OF_THE_MACHINE = re.compile(
    r"hostname|report_host|.*_dir|datadir|socket|port|pid_file|version.*|uuid|.*thread_pool_size"
    "|.*_workaround|open_files_limit|table_open_cache|table_definition_cache|innodb_open_files|back_log|thread_cache_size"
)
QUERY = "COPY (SELECT name, coalesce(boot_val, ''), coalesce(unit, ''), vartype, context FROM pg_settings) TO STDOUT"


def inside(root: str, *command: str) -> str:
    """What a command prints inside a root."""
    done = subprocess.run(["chroot", root, *command], capture_output=True, text=True)
    if done.returncode:
        raise SystemExit(f"{command}: {done.stderr[-500:]}")
    return done.stdout


def mariadb(root: str) -> tuple[str, dict[str, str]]:
    """The version, and every variable with its value."""
    home = Path(root) / "tmp/harvest"
    shutil.rmtree(home, ignore_errors=True)
    home.mkdir()
    inside(root, "chown", "mysql:mysql", "/tmp/harvest")
    common = ("--no-defaults", "--datadir=/tmp/harvest/data", "--user=mysql")
    inside(root, "mariadb-install-db", *common, "--auth-root-authentication-method=normal")
    server = subprocess.Popen(
        [
            "chroot",
            root,
            "mariadbd",
            *common,
            "--socket=/tmp/harvest/s",
            "--pid-file=/tmp/harvest/p",
            "--skip-networking",
        ],
        stderr=subprocess.DEVNULL,
    )
    try:
        for _ in range(100):
            time.sleep(0.2)
            if (home / "s").exists():
                break
        ask = ("mariadb", "--no-defaults", "--socket=/tmp/harvest/s", "-uroot", "-N", "-B", "-e")
        rows = inside(root, *ask, "SHOW GLOBAL VARIABLES").splitlines()
        version = inside(root, *ask, "SELECT VERSION()").strip()
    finally:
        server.terminate()
        server.wait(60)
        shutil.rmtree(home, ignore_errors=True)
    found = dict(row.split("\t", 1) for row in rows if "\t" in row)
    kept = {name: value for name, value in found.items() if not OF_THE_MACHINE.fullmatch(name) and "/" not in value}
    return ".".join(version.split(".")[:2]), {name: value for name, value in kept.items() if name != "skip_networking"}


def postgresql(root: str) -> tuple[str, dict[str, tuple[str, str, str, bool]]]:
    """The version, and every variable with its value, its unit, its type, and whether it takes a restart."""
    (version,) = (path.name for path in (Path(root) / "usr/lib/postgresql").iterdir())
    programs = f"/usr/lib/postgresql/{version}/bin"
    shutil.rmtree(Path(root) / "tmp/harvest", ignore_errors=True)
    inside(root, "install", "-d", "-o", "postgres", "/tmp/harvest")
    as_owner = ("su", "postgres", "-s", "/bin/sh", "-c")
    inside(root, *as_owner, f"{programs}/initdb -D /tmp/harvest/data")
    inside(
        root,
        *as_owner,
        f"{programs}/pg_ctl -w -D /tmp/harvest/data -l /tmp/harvest/log -o '-k /tmp/harvest -c listen_addresses=' start",
    )
    try:
        rows = inside(root, *as_owner, f'psql -h /tmp/harvest -At -c "{QUERY}" postgres').splitlines()
    finally:
        inside(root, *as_owner, f"{programs}/pg_ctl -w -D /tmp/harvest/data stop")
        shutil.rmtree(Path(root) / "tmp/harvest", ignore_errors=True)
    found = {}
    for row in rows:
        name, value, unit, kind, context = row.split("\t")
        if context != "internal" and "/" not in value:
            found[name] = (value, unit, kind, context == "postmaster")
    return version, found


def main(roots: list[str]) -> None:
    """All roots into one file."""
    found: dict[str, dict[str, object]] = {"mariadb": {}, "postgresql": {}}
    for root in roots:
        for product, harvest in (("mariadb", mariadb), ("postgresql", postgresql)):
            version, variables = harvest(root)
            found[product][version] = variables
            print(f"{product} {version}: {len(variables)} variables")
    OUTPUT.write_text(json.dumps(found, sort_keys=True, indent=None, separators=(",", ":")) + "\n")


if __name__ == "__main__":
    main(sys.argv[1:])
