"""Needs of versions, libraries, features, functions, services, variables, locales: each rule as a row."""

import json
import struct
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from fundamentum.catalog.databases import plain
from fundamentum.check.install_line import translated, words_of
from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.kinds.databases.variable_demand import VariableDemand
from fundamentum.kinds.databases.variables import VariableNeed
from fundamentum.model.findings import Finding
from fundamentum.model.packages import Installed
from fundamentum.model.surrounding_facts import Answer, DatabaseOptions
from fundamentum.model.survey import Survey
from fundamentum.plan.planner import plan
from fundamentum.platforms.offers import Offers
from fundamentum.survey.observe import survey
from fundamentum.survey.probes.database_options import option
from fundamentum.survey.survey_file import read
from tests.around import around_root, needs
from tests.small_root import TODAY

DATA = Path(__file__).parents[2] / "src/fundamentum/demo/data"
MORE = (
    Installed("libicu72", "72.1-3"),
    Installed("libicu67", "67.1-7"),
    Installed("redis-server", "5:7.0.15-1"),
    Installed("mariadb-server", "1:10.11.6-0+deb12u1"),
)


def found(tables: str, folder: Path, **changes: Any) -> Finding:
    """The last finding for these needs, on a small server that is changed so."""
    wanted = needs(tables)
    asked = asked_by([wanted])  # the extension files here are too small to be examined
    asked = replace(asked, modules=()) if asked else None
    server = survey(DirectoryHost(around_root(folder), "mizar"), asked)
    server = replace(server, installed=(*(server.installed or ()), *MORE))
    if told := changes.pop("told", None):
        server = replace(server, runtimes=tuple(replace(runtime, told=told) for runtime in server.runtimes))
    return check(wanted, replace(server, **changes), "nightlog.observatory.example").findings[-1]


SOCKETS = {
    f"socket:{place}": Answer(False)
    for place in ("/run/redis/redis-server.sock", "/run/redis/redis.sock", "127.0.0.1:6379")
}
RULES: list[tuple[str, dict[str, Any], str, str]] = [  # tables, what is known, verdict, what is found
    ("[php]\nbits = 64", {}, "met", "64 bits"),
    ("[php]\nbits = 32", {}, "unmet", "64 bits"),
    ("[php]\nthread_safe = true", {}, "unmet", "not thread-safe"),
    ('[extensions]\nabsent = ["xdebug"]', {}, "met", "not loaded"),
    ('[extensions]\nabsent = ["pdo"]', {}, "unmet", "loaded"),
    ('[unread]\nfiles = "a.php cannot be read"', {}, "unknown", "a.php cannot be read"),
    ('[extensions]\nrequired = ["ctype >= 8.0"]', {"told": {"extension:ctype": "8.2.9"}}, "met", "loaded 8.2.9"),
    ('[extensions]\nrequired = ["ctype >= 9.0"]', {"told": {"extension:ctype": "8.2.9"}}, "unmet", "8.2.9"),
    ('[extensions]\nrequired = ["star >= 2.0"]', {}, "unmet", "php8.2-star has 1.4"),
    ('[libraries]\nrequired = ["openssl >= 3"]', {"told": {"library:openssl": "OpenSSL 3.0.15"}}, "met", "openssl 3.0.15"),
    ('[libraries]\nrequired = ["openssl >= 4"]', {"told": {"library:openssl": "OpenSSL 3.0.15"}}, "unmet", "says PHP"),
    ('[libraries]\nrequired = ["icu >= 70"]', {}, "unknown", "icu of unknown version"),
    ('[features.required]\ngd = ["webp"]', {"told": {"feature:gd:webp": "1"}}, "unmet", "the extension gd"),
    ('[functions]\nrequired = ["exec"]', {}, "met", "part of PHP itself"),
    ('[functions]\nrequired = ["ctype_alpha"]', {}, "met", "of the extension ctype"),
    ('[functions]\nrequired = ["mysql_connect"]', {}, "unmet", "gone since PHP 7.0"),
    ('[functions]\nrequired = ["each"]', {}, "unmet", "gone from PHP"),
    ('[functions]\nrequired = ["json_validate"]', {}, "unmet", "not part of PHP 8.2, but of 8.4"),
    ('[functions]\nrequired = ["str_contain"]', {}, "unknown", "not known"),
    ('[functions]\nrequired = ["create_function"]', {}, "unmet", "gone from PHP"),
    ('[settings.required]\n"date.timezone" = "zone"', {}, "met", "UTC"),
    ('[settings.required]\nsendmail_path = "set"', {}, "met", "/usr/sbin/sendmail -t -i"),
    ('[settings.required]\nsafe_mode = "0"', {}, "met", "does not exist"),
    ('[settings.required]\ndisable_functions = "lacks exec"', {}, "met", "without exec"),
    ('[services]\nrequired = ["redis >= 6"]', {}, "unmet", "its extension redis"),
    ('[services]\nrequired = ["redis >= 8"]', {}, "unmet", "Redis 7.0.15"),
    ('[services]\nrequired = ["redis"]', {"answers": SOCKETS}, "unmet", "does not run"),
    ('[services]\nrequired = ["smtp"]', {"answers": {"greeting:smtp": Answer(True, ("", "127.0.0.1:25"))}}, "met", "mail transport"),
    ('[database]\nrequired = ["mariadb"]\n[database.settings.required]\nmax_allowed_packet = ">= 16M"', {}, "met", "16777216"),
    ('[database]\nrequired = ["mariadb"]\n[database.settings.required]\nmax_allowed_packet = "64M"', {}, "unmet", "16M"),
    ('[database]\nrequired = ["mariadb"]\n[database.settings.required]\nshared_buffers = "64M"', {}, "met", "no such variable"),
    ('[database]\nrequired = ["mariadb"]\n[database.settings.required]\nsql_mode = "has STRICT_TRANS_TABLES"', {}, "met", "STRICT"),
    ('[database]\nrequired = ["sqlite"]\n[database.settings.required]\nsql_mode = "on"', {}, "met", "SQLite has no server"),
    ('[database.settings.required]\nmax_allowed_packet = ">= 16M"', {}, "unknown", "not known"),
    ('[database]\nrequired = ["mariadb"]\n[database.settings.required]\ninnodb_file_per_table = true', {}, "met", "ON"),
    ('[database]\nrequired = ["mariadb"]\n[database.settings.required]\ninnodb_file_per_table = false', {}, "unmet", "ON, once"),
    ('[database]\nrequired = ["mariadb"]\n[database.settings.required]\nmax_connections = 500', {}, "unmet", "151, once"),
    ('[database]\nrequired = ["mariadb"]\n[database.settings.required]\nmax_connections = 50', {}, "met", "151"),
    ('[database]\nrequired = ["postgresql"]\n[database.settings.required]\nshared_buffers = ">= 64M"', {}, "met", "128MB"),
    ('[extensions]\nrequired = ["pdo_mysql >= 8"]', {}, "met", "loaded 8.2.9"),
    ('[extensions]\nrequired = ["pdo_mysql >= 9"]', {}, "unmet", "8.2.9, loaded"),
    ('[extensions]\nrequired = ["gd >= 9"]', {}, "unmet", "not installed; php8.2-gd has 8.2.9"),
    ('[extensions]\nrequired = ["gd >= 8"]', {}, "unmet", "not installed"),
    ('[features.required]\ngd = ["webp"]', {}, "unknown", "the extension gd: not installed"),
    ('[database]\nrequired = ["mariadb"]\n[database.settings.required]\nsql_moed = "on"', {}, "unknown", "not known"),
    ('[host.required]\nlocales = "C.UTF-8 de_DE.UTF-8"', {"answers": {"locales:installed": Answer(True, ("C.utf8", "de_DE.utf8"))}}, "met", "de_DE"),
    ('[host.required]\nlocales = "fr_FR.UTF-8"', {"answers": {"locales:installed": Answer(True, ("C.utf8",))}}, "unmet", "fr_FR.UTF-8 not there"),
    ('[host.required]\nmail = "set"', {}, "unmet", "/usr/sbin/sendmail is not there"),
    ('[host.required]\nswap = ">= 1G"', {}, "unknown", "not known"),
    ('[tasks.required]\n"bin/a.php" = "daily"', {}, "unmet", "bin/a.php is not there"),
]  # fmt: skip


@pytest.mark.parametrize(("tables", "known", "verdict", "shown"), RULES, ids=[row[0] for row in RULES])
def test_rules(tables: str, known: dict[str, Any], verdict: str, shown: str, tmp_path: Path) -> None:
    finding = found(tables, tmp_path, **dict(known))
    assert (finding.verdict, shown in (finding.found or "")) == (verdict, True), finding
    assert finding.verdict == "met" or finding.remedy


def test_a_library_is_the_one_that_the_extension_is_linked_with(tmp_path: Path) -> None:
    wanted = needs('[libraries]\nrequired = ["icu >= 70"]')
    server = survey(DirectoryHost(around_root(tmp_path), "mizar"), asked_by([wanted]))
    for soname, verdict in (("libicuuc.so.72", "met"), ("libicuuc.so.67", "unmet")):
        branches = tuple(replace(branch, linked=(soname,), modules=()) for branch in server.branches)
        runtimes = tuple(
            replace(runtime, extensions=(*runtime.extensions, replace(runtime.extensions[0], name="intl")))
            for runtime in server.runtimes
        )
        known = replace(server, installed=MORE, branches=branches, runtimes=runtimes)
        assert check(wanted, known, "nightlog.observatory.example").findings[-1].verdict == verdict


def test_an_extension_and_the_database_that_it_speaks_to_are_chosen_together(tmp_path: Path) -> None:
    both = '[extensions]\nrequired = ["pdo_mysql | pdo_pgsql"]\n'
    for server, named in (("mariadb", "pdo_mysql"), ("postgresql", "pdo_pgsql")):
        wanted = needs(f'{both}[database]\nrequired = ["{server}"]')
        findings = check(wanted, survey(DirectoryHost(around_root(tmp_path), "mizar"), asked_by([wanted])))
        finding = next(finding for finding in findings.findings if finding.need.kind == "extension")
        assert (finding.subject, finding.verdict) == (named, "met" if named == "pdo_mysql" else "unmet")


OPTIONS = [  # as an option file has it, the variable and its value
    ("max-allowed-packet", "64M", ("max_allowed_packet", "64M")),
    ("loose_sql-mode", "'ANSI'", ("sql_mode", "ANSI")),
    ("skip-name-resolve", None, ("skip_name_resolve", "ON")),
    ("innodb-file-per-table", None, ("innodb_file_per_table", "ON")),
    ("skip-innodb-file-per-table", None, ("innodb_file_per_table", "OFF")),
    ("character-set-serv", "utf8mb4", ("character_set_server", "utf8mb4")),
]


@pytest.mark.parametrize(("name", "value", "read_as"), OPTIONS)
def test_options_of_a_database_server(name: str, value: str | None, read_as: tuple[str, str]) -> None:
    assert option(name, value, "mariadb") == read_as


FILES = {
    "etc/mysql/my.cnf": "[client]\nmax_allowed_packet = 1M\n[mysqld]\nmax_allowed_packet = 2M\n!includedir /etc/mysql/conf.d/\n",
    "etc/mysql/conf.d/50-a.cnf": "[mariadb]\nmax_allowed_packet = 8M # small\nwait_timeout=600\n[mysqldump]\nwait_timeout = 1\n",
    "etc/mysql/conf.d/60-b.cnf": "[mysqld-10.5]\nwait_timeout = 1\n[mariadb-10.11]\nwait_timeout = 700\n",
    "etc/mysql/conf.d/ignored.txt": "[mysqld]\nwait_timeout = 2\n",
}


def test_the_last_line_of_a_group_that_counts_wins_and_a_plan_writes_behind_it(tmp_path: Path) -> None:
    wanted = needs('[database]\nrequired = ["mariadb"]\n[database.settings.required]\nmax_allowed_packet = "64M"')
    root = around_root(tmp_path, extra=dict(FILES))
    status = tmp_path / "var/lib/dpkg/status"
    status.write_text(
        f"{status.read_text()}\nPackage: mariadb-server\nStatus: install ok installed\nVersion: 1:10.11.6-1\n"
    )
    server = survey(DirectoryHost(root, "mizar"), asked_by([wanted]))
    (options,) = server.options
    assert {name: (value.value, value.origin.line) for name, value in options.values.items()} == {
        "max_allowed_packet": ("8M", 2),
        "wait_timeout": ("700", 4),
    }
    made = plan([wanted], server, "nightlog.observatory.example", today=TODAY)
    (file,) = (file for file in made.files if "mysql" in file.path)
    assert file.path == "/etc/mysql/conf.d/zz-nightlog.cnf"
    assert file.content.endswith("[mysqld]\nmax_allowed_packet = 64M\n")
    assert "restart mariadb" in [step.operation.title for step in made.steps]


def test_locales_are_read_from_the_systems_archive(tmp_path: Path) -> None:
    names = b"de_DE.utf8\0C.utf8\0"
    head = struct.pack("=8I", 0xDE020109, 1, 0, 2, 4, 64, len(names), len(names))
    archive = head + bytes(64 - len(head)) + names
    root = around_root(
        tmp_path, extra={"usr/lib/locale/locale-archive": archive, "usr/lib/locale/fr_FR.utf8/LC_TIME": ""}
    )
    wanted = needs('[host.required]\nlocales = "de_DE.UTF-8, fr_FR.utf8"')
    server = survey(DirectoryHost(root, "mizar"), asked_by([wanted]))
    assert server.answers["locales:installed"].lines == ("C.utf8", "de_DE.utf8", "fr_FR.utf8")
    assert check(wanted, server, "nightlog.observatory.example").findings[-1].verdict == "met"


CONDITIONS = [  # product, variable, wanted, value, whether it is enough
    ("mariadb", "max_allowed_packet", ">= 16M", "16777216", True),
    ("mariadb", "max_allowed_packet", ">= 64K", "65535", False),
    ("mariadb", "max_allowed_packet", ">= 64K", "64K", True),
    ("mariadb", "max_allowed_packet", ">= 1G", "1023M", False),
    ("mariadb", "innodb_file_per_table", "on", "ON", True),
    ("mariadb", "sql_mode", "lacks ANSI", "STRICT_ALL_TABLES,ANSI", False),
    ("postgresql", "shared_buffers", ">= 128MB", "16384", True),
    ("postgresql", "lock_timeout", ">= 5s", "5000ms", True),
    ("postgresql", "work_mem", ">= 8MB", "4096", False),
    ("postgresql", "fsync", "on", "true", True),
]


@pytest.mark.parametrize(("product", "name", "wanted", "value", "enough"), CONDITIONS)
def test_values_are_compared_in_their_own_units(product: str, name: str, wanted: str, value: str, enough: bool) -> None:
    version = {"mariadb": "10.11", "postgresql": "15"}[product]
    condition = VariableNeed(name, wanted, "required").condition(product, version)
    assert condition.holds("", plain(product, version, name, value)) is enough


@pytest.mark.parametrize(
    ("product", "wanted", "before", "written"),
    [
        ("mariadb", ">= 65536", "1", "64K"),
        ("mariadb", ">= 1024", "1", "1K"),
        ("mariadb", ">= 1025", "1", "1025"),
        ("mariadb", ">= 16M", "4M", "16M"),
        ("mariadb", ">= 2147483648", "4M", "2G"),
        ("mariadb", "on", "OFF", "ON"),
        ("postgresql", "off", "on", "off"),
        ("postgresql", ">= 8MB", "4MB", "8MB"),
        ("postgresql", ">= 64kB", "32kB", "64kB"),
        ("postgresql", ">= 1GB", "4MB", "1GB"),
    ],
)
def test_values_are_written_as_an_administrator_writes_them(
    product: str, wanted: str, before: str, written: str
) -> None:
    version, name = {"mariadb": ("10.11", "max_allowed_packet"), "postgresql": ("15", "work_mem")}[product]
    if wanted in ("on", "off"):
        name = {"mariadb": "innodb_file_per_table", "postgresql": "fsync"}[product]
    conditions = (VariableNeed(name, wanted, "required").condition(product, version),)
    options = DatabaseOptions(product, version)  # type: ignore[arg-type]
    assert VariableDemand(product, version, name, before, conditions, True, options, wanted).value == written


def vega() -> Survey:
    return read((DATA / "vega.survey.json").read_bytes(), "vega")


LINES = json.loads((Path(__file__).parent / "install_lines.json").read_text())


@pytest.mark.parametrize("line", LINES)
def test_an_install_line_of_an_old_guide(line: str) -> None:
    server = vega()
    offers = Offers(server)
    tools = {"apt-get", "apt", "aptitude", "yum"}
    made = translated(
        words_of(line.split(), tools), server, offers, lambda name: ["apache2"] if "apache2" in name else []
    )
    said = {part.word: [part.state, *part.today] for part in made.parts}
    assert said == LINES[line]["parts"]
    assert [part.why for part in made.parts] == LINES[line]["why"]
    assert list(made.packages) == LINES[line]["packages"]
