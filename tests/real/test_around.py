"""Directories, commands, databases and tasks on a real server: judged as the kernel does, and mended."""

import itertools
import json
import random
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from debian_root import STORE, Root, with_pool

from fundamentum.effective.file_access import allowed
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.surrounding_facts import Asked
from fundamentum.survey.database_greeting import at
from fundamentum.survey.observe import survey

from .carried_out import fundamentum, state_of
from .running import end_all, stop, wait_for
from .surrounded import NEEDS, carried_out, surround

pytestmark = pytest.mark.real


@pytest.fixture(scope="module")
def server() -> Iterator[Root]:
    root = with_pool().copy(STORE / "test-around")
    root.install("acl")
    surround(root)
    yield root
    shutil.rmtree(root.path, ignore_errors=True)


def test_what_a_user_may_do_is_what_the_kernel_lets_him(server: Root) -> None:
    chance = random.Random(7)
    modes = [0o700, 0o070, 0o007, 0o750, 0o755, 0o770, 0o705, 0o773, 0o777, 0o000, 0o720]
    lines = []
    for number, (mode, owner, group) in enumerate(
        itertools.product(modes, ("root", "www-data", "ida"), ("root", "www-data"))
    ):
        lines.append(
            f"mkdir -p /srv/cases/{number:03}; chown {owner}:{group} /srv/cases/{number:03}; chmod {mode:o} /srv/cases/{number:03}"
        )
        if chance.random() < 0.5:
            entries = ",".join(
                f"{kind}:{who}:{''.join(chance.choice((letter, '-')) for letter in 'rwx')}"
                for kind, who in chance.sample(
                    [("u", "www-data"), ("g", "www-data"), ("u", "ida"), ("g", "ida"), ("m", "")], 2
                )
            )
            lines.append(f"setfacl -n -m {entries},m::{chance.choice(('rwx', 'r-x', '-wx'))} /srv/cases/{number:03}")
    server.run("sh", "-ec", "\n".join(lines).replace(",m::-,", ","))
    folders = sorted(path.name for path in (server.path / "srv/cases").iterdir())
    surveyed = survey(
        DirectoryHost(server.path, "x"), Asked(directories=tuple(f"/srv/cases/{name}" for name in folders))
    )
    account = next(account for account in surveyed.accounts if account.name == "www-data")
    script = "for d in /srv/cases/*; do for f in r w x; do test -$f $d && printf $f || printf -- -; done; echo; done"
    real = subprocess.run(
        ["chroot", str(server.path), "setpriv", "--reuid", "www-data", "--regid", "www-data", "--clear-groups", "sh", "-c", script],
        capture_output=True, text=True, check=True,
    ).stdout.split()  # fmt: skip
    places = [place for place in surveyed.places if place.path.startswith("/srv/cases/")]
    mine = [
        "".join(letter if allowed(place, account) & bit else "-" for letter, bit in zip("rwx", (4, 2, 1), strict=True))
        for place in places
    ]
    assert len(mine) == len(real) == 66
    assert mine == real


def test_a_script_brings_all_of_it(server: Root, tmp_path: Path) -> None:
    needs = tmp_path / "platevault.needs.toml"
    needs.write_text(NEEDS)
    root = Root(server.path).copy(STORE / "test-around-script")
    try:
        code, script = fundamentum("plan", str(needs), "--server", str(root.path), "--format", "script")
        assert code == 0, fundamentum("plan", str(needs), "--server", str(root.path))[1]
        root.write("/root/plan.sh", script)
        before = state_of(root)
        root.run("sh", "/root/plan.sh")
        assert state_of(root) == before
        root.run("sh", "/root/plan.sh", "--yes")
        carried_out(root, needs)
        after = state_of(root)
        again = root.run("sh", "/root/plan.sh", "--yes")
        assert state_of(root) == after
        assert "making" not in again and "giving" not in again and "(now" not in again
    finally:
        end_all(root)  # the database server that the script has started
        shutil.rmtree(root.path, ignore_errors=True)


def start(root: Root, *words: str) -> "subprocess.Popen[bytes]":
    command = ["chroot", str(root.path), *words]
    return subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def test_database_servers_are_known_by_their_greeting(server: Root, tmp_path: Path) -> None:
    root = Root(server.path).copy(STORE / "test-around-databases")
    root.install("mariadb-server", "postgresql", "php8.2-mysql", "php8.2-pgsql")
    daemons: list[subprocess.Popen[bytes]] = []
    try:
        root.run("install", "-d", "-o", "mysql", "/run/mysqld")
        root.run("install", "-d", "-o", "postgres", "/run/postgresql")
        daemons.append(start(root, "mariadbd", "--user=mysql", "--bind-address=127.0.0.1", "--port=33306"))
        folder, settings = "/var/lib/postgresql/15/main", "/etc/postgresql/15/main/postgresql.conf"
        options = [f"config_file={settings}", "ssl=off", "dynamic_shared_memory_type=mmap", "port=54321"]
        program = [
            "/usr/lib/postgresql/15/bin/postgres",
            "-D",
            folder,
            *(word for option in options for word in ("-c", option)),
        ]
        daemons.append(start(root, "setpriv", "--reuid", "postgres", "--regid", "postgres", "--clear-groups", *program))
        wait_for(root.path / "run/mysqld/mysqld.sock")
        wait_for(root.path / "run/postgresql/.s.PGSQL.54321")
        packaged = (
            root.run("dpkg-query", "-W", "-f", "${Version}", "mariadb-server").partition(":")[2].partition("-")[0]
        )
        for address in ("127.0.0.1:33306", str(root.path / "run/mysqld/mysqld.sock")):
            database = at(address)
            assert (database.product, database.version) == ("mariadb", packaged)
        for address in ("127.0.0.1:54321", str(root.path / "run/postgresql/.s.PGSQL.54321")):
            database = at(address)
            assert (database.product, database.version) == ("postgresql", None)
        cases: list[tuple[str, str | None, str]] = [
            (f"mariadb >= {packaged}", "127.0.0.1:33306", "met"),
            ("mariadb >= 99", "127.0.0.1:33306", "unmet"),
            ("mysql >= 8.0", "127.0.0.1:33306", "unmet"),
            ("postgresql", "127.0.0.1:54321", "met"),
            ("postgresql >= 13", "127.0.0.1:54321", "unknown"),
            ("postgresql >= 13", None, "met"),
            ("mysql >= 8.0 | mariadb >= 10.6", None, "met"),
            ("postgresql >= 16", None, "unmet"),
        ]
        for wanted, where, verdict in cases:
            needs = tmp_path / "x.needs.toml"
            needs.write_text(f'format = 1\n[application]\nname = "x"\n[database]\nrequired = ["{wanted}"]\n')
            more = ["--database", where] if where else []
            _, out = fundamentum("check", str(needs), "--server", str(root.path), "--format", "json", *more)
            finding = json.loads(out)["applications"][0]["findings"][-1]
            assert finding["verdict"] == verdict, (wanted, where, finding)
    finally:
        for daemon in daemons:
            stop(daemon)
        shutil.rmtree(root.path, ignore_errors=True)
