"""Option files of database servers, read in the order in which each server reads them."""

import os
from pathlib import Path

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.processes import Process
from fundamentum.model.packages import Installed
from fundamentum.model.surrounding_facts import DatabaseOptions
from fundamentum.survey.probes import database_options
from tests.small_root import write

MARIADB = Installed("mariadb-server", "1:10.11.6-0+deb12u1")
MYSQL = Installed("mysql-server-8.0", "8.0.35-1")
POSTGRESQL = Installed("postgresql-15", "15.5-0+deb12u1")


def options(
    root: Path, files: dict[str, str | bytes], product: str = "mariadb", running: tuple[Process, ...] = ()
) -> list[DatabaseOptions]:
    write(root, files)
    installed = {"mariadb": MARIADB, "mysql": MYSQL, "postgresql": POSTGRESQL}[product]
    return list(database_options.probe(DirectoryHost(root, "x"), [product], [installed], running))


def said(of: DatabaseOptions) -> dict[str, str]:
    return {name: f"{value.value} ({value.origin.file}:{value.origin.line})" for name, value in of.values.items()}


def test_the_last_line_of_all_groups_that_count_wins(tmp_path: Path) -> None:
    one, two = "/etc/mysql/conf.d", "/etc/mysql/last.cnf"
    files: dict[str, str | bytes] = {
        "/etc/my.cnf": "[mysqld]\nmax-allowed-packet = 16M # owls\nport=3307\n",
        "/etc/mysql/my.cnf": f"[client]\nport = 1\n!includedir {one}/\n[server]\nport=3308\n !include {two} \n",
        f"{one}/50-a.cnf": "[mariadb-10.11]\n; port = 9\ncharacter-set-server = 'latin1#'\nskip-log-bin\n",
        f"{one}/60-b.cnf": '[mysqld-10.6]\nport=2\n[galera]\ncollation_server = "x" # y\n',
        f"{one}/.hidden.cnf": "[mysqld]\nport = 5\n",
        f"{one}/old.bak": "[mysqld]\nport = 6\n",
        two: "[mysqld]\nmax_allowed_packet\n",
    }
    (found,) = options(tmp_path, files)
    assert said(found) == {
        "max_allowed_packet": f"ON ({two}:2)",
        "port": "3308 (/etc/mysql/my.cnf:5)",
        "character_set_server": f"latin1# ({one}/50-a.cnf:3)",
        "log_bin": f"OFF ({one}/50-a.cnf:4)",
        "collation_server": f"x ({one}/60-b.cnf:4)",
    }
    assert (found.product, found.version, found.folder) == ("mariadb", "10.11", one)
    assert found.late == ("max_allowed_packet", "port")
    assert found.files == (
        "/etc/my.cnf", "/etc/mysql/my.cnf", one, f"{one}/50-a.cnf", f"{one}/60-b.cnf", two,
    )  # fmt: skip


def test_mysql_knows_fewer_groups(tmp_path: Path) -> None:
    text = "[mysqld-8.0]\nport = 1\n[mariadb]\nport = 2\n[client-server]\nport = 3\n[galera]\nport = 4\n"
    (found,) = options(tmp_path, {"/etc/my.cnf": text}, "mysql")
    assert said(found) == {"port": "1 (/etc/my.cnf:2)"}
    assert (found.version, found.folder, found.late) == ("8.0", None, ())


def test_files_that_lead_to_themselves_end(tmp_path: Path) -> None:
    (found,) = options(tmp_path, {"/etc/my.cnf": "!include /etc/my.cnf\n[mysqld]\nport = 1\n!includedir /etc/none\n"})
    assert said(found) == {"port": "1 (/etc/my.cnf:3)"}
    assert found.files == ("/etc/my.cnf",)
    assert found.folder is None


def test_what_cannot_be_read_is_told_and_secrets_are_not_taken(tmp_path: Path) -> None:
    (tmp_path / "etc/mysql/my.cnf").mkdir(parents=True)
    (found,) = options(tmp_path, {"/etc/my.cnf": "[mysqld]\nwsrep_sst_password = owl\nport = 1\n"})
    assert found.unread == ("/etc/mysql/my.cnf",)
    assert (said(found), found.late) == ({"port": "1 (/etc/my.cnf:3)"}, ())


def test_clusters_of_postgresql(tmp_path: Path) -> None:
    folder = "/etc/postgresql/15"
    files: dict[str, str | bytes] = {
        f"{folder}/main/postgresql.conf": "data_directory = '/srv/data'\nmax_connections 50\n"
        "include_dir = 'conf.d'\ninclude 'own.conf'\nPort = 5433 # owls\nlc_messages = 'it''s'\nnonsense\n",
        f"{folder}/main/conf.d/a.conf": "max_connections = 60\nwork_mem = '4MB'\n",
        f"{folder}/main/conf.d/b.txt": "max_connections = 1\n",
        f"{folder}/main/own.conf": "include_if_exists = '/none.conf'\nwork_mem = 8MB\n",
        "/srv/data/postgresql.auto.conf": "max_connections = '70'\nport = 5433\ninclude 'x'\n",
        f"{folder}/second/postgresql.conf": "port = 5434\n",
        f"{folder}/none/other.conf": "",
        "/var/lib/pgsql/data/postgresql.conf": "port = 5435\n",
    }
    first, second, third = options(tmp_path, files, "postgresql")
    assert (first.version, first.folder) == ("15", f"{folder}/main/conf.d")
    assert said(first) == {
        "data_directory": f"/srv/data ({folder}/main/postgresql.conf:1)",
        "max_connections": "70 (/srv/data/postgresql.auto.conf:1)",
        "work_mem": f"8MB ({folder}/main/own.conf:2)",
        "port": "5433 (/srv/data/postgresql.auto.conf:2)",
        "lc_messages": f"it's ({folder}/main/postgresql.conf:6)",
    }
    assert first.late == ("lc_messages", "max_connections", "port", "work_mem")
    assert said(second) == {"port": f"5434 ({folder}/second/postgresql.conf:1)"}
    assert said(third) == {"port": "5435 (/var/lib/pgsql/data/postgresql.conf:1)"}
    assert (second.folder, third.late) == (None, ())


@pytest.mark.parametrize(
    ("title", "stale"),
    [
        ("/usr/sbin/mariadbd", ("/etc/my.cnf",)),
        ("/usr/sbin/mysqld", ("/etc/my.cnf",)),
        ("/usr/bin/mysqldump", ()),
        ("mariadbd", ()),
    ],
)
def test_what_changed_since_the_server_started(tmp_path: Path, title: str, stale: tuple[str, ...]) -> None:
    write(tmp_path, {"/etc/my.cnf": "[mysqld]\n", "/etc/mysql/my.cnf": ""})
    started = (tmp_path / "etc/my.cnf").stat().st_mtime - 50
    os.utime(tmp_path / "etc/mysql/my.cnf", (1, 1))
    running = (Process(title, started), Process("/usr/sbin/mariadbd", started + 99))
    (found,) = options(tmp_path, {}, running=running)
    assert set(stale) <= set(found.stale)
    assert bool(found.stale) == bool(stale)


def test_a_product_that_is_not_installed_is_not_looked_at(tmp_path: Path) -> None:
    write(tmp_path, {"/etc/my.cnf": "[mysqld]\nport = 1\n"})
    host = DirectoryHost(tmp_path, "x")
    assert database_options.probe(host, ["postgresql", "mysql"], [MARIADB], ()) == ()
    assert database_options.probe(host, ["mariadb"], None, ()) == ()


@pytest.mark.parametrize("line", ["port = 1{}x", "[a{}x", "!include a{}x", "port{}= x", "{}x"])
@pytest.mark.parametrize("product", ["mariadb", "postgresql"])
def test_blanks_without_end_are_read_in_time(tmp_path: Path, line: str, product: str) -> None:
    text = f"[mysqld]\n{line.format(' ' * 500_000)}\nport = 2\n"
    files: dict[str, str | bytes] = {"/etc/mysql/my.cnf": text, "/etc/postgresql/15/main/postgresql.conf": text}
    assert [said(option).get("port", "2").split()[0] for option in options(tmp_path, files, product)] == ["2"]
