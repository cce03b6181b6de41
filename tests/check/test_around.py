"""Databases, commands, directories, the machine and tasks: one row, one behaviour.  tests/real asks real systems."""

from collections.abc import Sequence
from typing import Any

import pytest
from msgspec.structs import replace

from fundamentum.catalog.cron import interval
from fundamentum.catalog.suppliers import suppliers
from fundamentum.changes.directory import ArrangeDirectory
from fundamentum.changes.policy_boolean import SwitchBoolean
from fundamentum.check.judge import check
from fundamentum.effective.file_access import allowed
from fundamentum.kinds.tasks import crontab
from fundamentum.model.findings import Finding
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.packages import Installed, Offer
from fundamentum.model.php import Loaded, Runtime, Setting
from fundamentum.model.surrounding_facts import (
    Account,
    Answer,
    Asked,
    Command,
    Database,
    Grant,
    Machine,
    Place,
    Scheduled,
)
from fundamentum.model.survey import Site, Survey
from fundamentum.model.system import System
from fundamentum.platforms.base import policy_texts
from fundamentum.platforms.offers import Offers
from tests.around import needs

ASKED = Asked(
    commands=("git", "convert"),
    packages=tuple(package for names in suppliers().products.values() for package in names),
    tasks=("bin/x.php",),
)
WWW = Account("www-data", 33, (33, 50), "www-data")
RUNTIME = Runtime(
    "8.2",
    "fpm",
    "8.2.1",
    pool="www",
    serves=True,
    user="www-data",
    ini_file="/etc/php/8.2/fpm/php.ini",
    extensions=(Loaded("pdo_mysql", "pdo_mysql", BUILT_IN),),
    settings={"date.timezone": Setting("UTC"), "disable_functions": Setting("")},
)
SITE = Site("nightlog", "nginx", Origin("/etc/nginx/x", 3), root="/srv/nightlog/public", runtime=RUNTIME.label)
ROOT = Survey(
    1,
    "vega",
    System(family="debian", architecture="amd64"),
    runtimes=(RUNTIME,),
    installed=(),
    offers=(
        Offer("mariadb-server", "1:10.11.6-0+deb12u1", "Debian"),
        Offer("git", "1:2.39.5-0", "Debian"),
        Offer("imagemagick", "8:6.9.11-1", "Debian"),
        Offer("libsqlite3-0", "3.40.1-2", "Debian"),
    ),
    sites=(SITE,),
    asked=ASKED,
    accounts=(WWW,),
)


def judged(tables: str, **change: Any) -> Finding:
    return check(needs(tables), replace(ROOT, **change)).findings[-1]


def seen(product: Any, version: str | None, *, chosen: bool = False) -> tuple[Database, ...]:
    return (Database(product, version, "127.0.0.1:3306", chosen),)


SERVER = (Installed("mariadb-server", "1:10.11.6-0+deb12u1"),)
DATABASES: list[tuple[str, dict[str, Any], str, str | None, str]] = [
    ("mariadb >= 10.6", {}, "unmet", "installable", "install mariadb-server"),
    ("mariadb >= 11", {}, "unmet", "unobtainable", "10.11.6 only"),
    ("mysql >= 8.0", {}, "unmet", "unobtainable", "no repository here has MySQL"),
    ("mysql | mariadb", {}, "unmet", "installable", "install mariadb-server"),
    ("mariadb >= 10.6", {"installed": SERVER}, "met", None, ""),
    ("mariadb >= 10.6.3, <10.11", {"installed": SERVER}, "unmet", "unobtainable", "10.11.6 only"),
    ("mariadb >= 10.6", {"databases": seen("mariadb", "10.5.2")}, "unmet", "installable", "install mariadb-server"),
    ("mariadb >= 10.6", {"databases": seen("mariadb", "10.5.2", chosen=True)}, "unmet", "unobtainable", "use a server of MariaDB >=10.6"),
    ("mariadb >= 10.6", {"databases": seen("mariadb", "11.4.2", chosen=True)}, "met", None, ""),
    ("mariadb", {"databases": seen("mysql", "8.0.36", chosen=True), "installed": SERVER}, "unmet", "unobtainable", "use a server"),
    ("postgresql >= 13", {"installed": (Installed("postgresql-15", "15.14-0"),)}, "unmet", "unobtainable", ""),
    ("mysql >= 8", {"asked": None}, "unknown", None, "survey again with --for"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "change", "verdict", "state", "words"), DATABASES)
def test_databases(text: str, change: dict[str, Any], verdict: str, state: str | None, words: str) -> None:
    finding = judged(f'[database]\nrequired = ["{text}"]\n', **change)
    assert (finding.verdict, finding.state) == (verdict, state)
    assert words in (finding.remedy or "")


RUNNING, STORED = (f"text:{path}" for path in policy_texts("httpd_can_network_connect_db"))
POLICY: list[tuple[str, bool | None, dict[str, Answer], str]] = [
    # address, enforcing, what the policy's texts say; verdict
    ("db.example:3306", None, {}, "met"),
    ("db.example:3306", False, {}, "met"),
    ("127.0.0.1:3306", True, {}, "met"),
    ("/run/mysqld/mysqld.sock", True, {}, "met"),
    ("db.example:3306", True, {}, "unknown"),
    ("db.example:3306", True, {RUNNING: Answer(True, ("0 0",))}, "unmet"),
    ("db.example:3306", True, {RUNNING: Answer(True, ("1 1",)), STORED: Answer(False)}, "met"),
    ("db.example:3306", True, {RUNNING: Answer(None), STORED: Answer(False)}, "unmet"),
    ("db.example:3306", True, {STORED: Answer(True, ("# local", "httpd_can_network_connect_db=1"))}, "met"),
    ("db.example:3306", True, {STORED: Answer(True, ("httpd_can_network_connect_db=0",))}, "unmet"),
]


@pytest.mark.parametrize(("address", "enforcing", "answers", "verdict"), POLICY)
def test_a_database_on_another_machine(
    address: str, enforcing: bool | None, answers: dict[str, Answer], verdict: str
) -> None:
    databases = (Database("mariadb", "10.11.2", address, chosen=True),)
    change = {"databases": databases, "machine": Machine(enforcing=enforcing), "answers": answers}
    finding = judged('[database]\nrequired = ["mariadb"]\n', **change)
    assert finding.verdict == verdict, finding
    if verdict == "unmet":
        (boolean,) = finding.demands
        assert isinstance(boolean, SwitchBoolean) and finding.remedy == "setsebool -P httpd_can_network_connect_db on"
        after = boolean.applied(replace(ROOT, **change), Offers(ROOT))
        assert judged('[database]\nrequired = ["mariadb"]\n', **{**change, "answers": after.answers}).verdict == "met"
        (operation,) = boolean.lowered(None)  # type: ignore[arg-type]
        assert operation.commands(Offers(ROOT).platform) == ["setsebool -P httpd_can_network_connect_db on"]
        assert operation.undone(Offers(ROOT).platform) == ["setsebool -P httpd_can_network_connect_db off"]
        assert "untried on an enforcing system" in operation.title


def test_a_database_counts_with_the_driver_that_the_application_uses() -> None:
    tables = '[extensions]\nrequired = ["mysqli | pdo_pgsql"]\n[database]\nrequired = ["mariadb"]\n'
    finding = judged(tables, installed=SERVER)
    assert (finding.verdict, finding.subject) == ("unmet", "mysqli")
    assert judged('[database]\nrequired = ["mariadb"]\n', installed=SERVER).subject == "pdo_mysql"
    unknown = judged('[database]\nrequired = ["postgresql >= 13"]\n', databases=seen("postgresql", None, chosen=True))
    assert "tells its version to nobody" in (unknown.remedy or "")


GIT = Command("git", "/usr/bin/git", "git", ("git",))
INSTALLED = (Installed("git", "1:2.30.2-1"),)
COMMANDS: list[tuple[str, dict[str, Any], str, str]] = [
    ("git", {"commands": (Command("git", None, None, ("git",)),)}, "unmet", "install git (Debian)"),
    ("git >= 2.40", {"commands": (Command("git", None, None, ("git",)),)}, "unmet", "2.39.5 only"),
    ("git", {"commands": (Command("git"),)}, "unmet", "no package index here names git"),
    ("git", {"commands": ()}, "unknown", "survey again with --for"),
    ("git", {"commands": (GIT,), "installed": INSTALLED}, "met", ""),
    ("git >= 2.30", {"commands": (GIT,), "installed": INSTALLED}, "met", ""),
    ("git >= 2.35", {"commands": (GIT,), "installed": INSTALLED}, "unmet", "upgrade git to 2.39.5"),
    ("git >= 3", {"commands": (GIT,), "installed": INSTALLED}, "unmet", "no package index here has git >=3"),
    ("git >= 2.30", {"commands": (Command("git", "/usr/local/bin/git"),)}, "unknown", "git --version"),
    ("git | convert", {"commands": (Command("git"), Command("convert", None, None, ("imagemagick",)))}, "unmet", "install imagemagick"),
    (
        "git",
        {"commands": (GIT,), "installed": INSTALLED, "places": (Place("/usr/bin/git", "file", mode=0o700),)},
        "unmet",
        "let www-data run it: look at the mode of /usr/bin/git",
    ),
]  # fmt: skip


@pytest.mark.parametrize(("text", "change", "verdict", "words"), COMMANDS)
def test_commands(text: str, change: dict[str, Any], verdict: str, words: str) -> None:
    finding = judged(f'[commands]\nrequired = ["{text}"]\n', **change)
    assert (finding.verdict, words in (finding.remedy or "")) == (verdict, True), finding


PLATES = "/srv/plates"


def place(**what: Any) -> Place:
    return Place(PLATES, **{"kind": "directory", "mode": 0o755, **what})


DIRECTORIES: list[tuple[str, Place | None, str, list[str]]] = [  # need, place, verdict, commands
    ("writable", place(user=33), "met", []),
    ("writable", place(user=0, group=33, mode=0o775), "met", []),
    ("writable", place(user=0, group=50, mode=0o775), "met", []),
    ("writable", place(user=0), "unmet", ["chown www-data /srv/plates"]),
    ("writable", place(user=33, mode=0o500), "unmet", ["chmod 0700 /srv/plates"]),
    ("writable", place(user=1000, group=33, mode=0o755), "unmet", ["chmod 0775 /srv/plates"]),
    ("writable", place(user=1000, group=1000, mode=0o700), "unmet", ["chown :www-data /srv/plates", "chmod 0770 /srv/plates"]),
    ("writable", place(user=0, grants=(Grant("user", 33, 7), Grant("mask", 0, 7))), "met", []),
    ("writable", place(user=0, grants=(Grant("user", 33, 7), Grant("mask", 0, 5))), "unmet", ["setfacl -m u:www-data:rwx /srv/plates"]),
    ("writable", place(kind="absent"), "unmet", ["install -d -m 0750 -o www-data -g www-data /srv/plates"]),
    ("read-only", place(user=0), "met", []),
    ("read-only", place(user=0, mode=0o777), "unmet", ["chmod 0755 /srv/plates"]),
    ("read-only", place(user=33, mode=0o755), "unmet", ["chown root:www-data /srv/plates"]),
    ("read-only", place(user=0, mode=0o700), "unmet", ["chown :www-data /srv/plates", "chmod 0750 /srv/plates"]),
    ("read-only", place(kind="absent"), "unmet", ["install -d -m 0750 -o root -g www-data /srv/plates"]),
    ("there", place(user=0, mode=0), "met", []),
    ("writable", place(kind="file"), "unmet", []),
    ("writable", place(kind="unreadable"), "unknown", []),
    ("writable", None, "unknown", []),
]  # fmt: skip


@pytest.mark.parametrize(("text", "where", "verdict", "remedy"), DIRECTORIES)
def test_directories(text: str, where: Place | None, verdict: str, remedy: Sequence[str]) -> None:
    finding = judged(f'[directories.required]\n"{PLATES}" = "{text}"\n', places=(where,) if where else ())
    assert finding.verdict == verdict
    (change,) = finding.demands or (None,)
    assert [
        " ".join(words) for words in (change.operation().argv() if isinstance(change, ArrangeDirectory) else [])
    ] == list(remedy)
    assert all(command in (finding.remedy or "") for command in remedy)


def test_a_way_there_is_opened_for_the_user_alone_where_that_can_be_done() -> None:
    places = (Place("/", "directory", mode=0o755), Place("/srv", "directory", mode=0o700), place(user=33))
    tables = f'[directories.required]\n"{PLATES}" = "writable"\n'
    assert judged(tables, places=places).remedy == "chmod 0701 /srv"
    tool = (Command("setfacl", "/usr/bin/setfacl", "acl"),)
    assert judged(tables, places=places, commands=tool).remedy == "setfacl -m u:www-data:x /srv"


def test_a_label_is_wanted_only_where_it_is_enforced() -> None:
    tables = f'[directories.required]\n"{PLATES}" = "writable"\n'
    labelled = (place(user=33, label="system_u:object_r:var_t:s0"),)
    assert judged(tables, places=labelled).verdict == "met"
    finding = judged(tables, places=labelled, machine=Machine(enforcing=True))
    assert "semanage fcontext -a -t httpd_sys_rw_content_t '/srv/plates(/.*)?'" in (finding.remedy or "")
    right = (place(user=33, label="system_u:object_r:httpd_sys_rw_content_t:s0"),)
    assert judged(tables, places=right, machine=Machine(enforcing=True)).verdict == "met"


def test_a_directory_within_what_is_served_is_pointed_out() -> None:
    inside = Place("/srv/nightlog/public/plates", "directory", user=33, mode=0o755)
    finding = judged('[directories.required]\n"plates" = "writable, outside"\n', places=(inside,))
    assert (finding.verdict, finding.demands) == ("unmet", ())
    assert "keep it out of /srv/nightlog/public" in (finding.remedy or "")
    apart = Place("/srv/nightlog/plates", "directory", user=33, mode=0o755)
    assert judged('[directories.required]\n"plates" = "writable, outside"\n', places=(apart,)).verdict == "met"


def test_what_another_site_serves_is_not_given_away() -> None:
    mine = Place("/srv/plates", "directory", mode=0o755)
    for root, told in (("/srv/plates", True), ("/srv/plates/old", True), ("/srv/other", False)):
        other = replace(ROOT.sites[0], name="plates.observatory.example", root=root)
        server = replace(ROOT, places=(mine,), sites=(*ROOT.sites, other))
        wanted = needs('[directories.required]\n"/srv/plates" = "writable"\n')
        finding = check(wanted, server, selector=ROOT.sites[0].name).findings[-1]
        assert (finding.verdict, not finding.demands) == ("unmet", told)
        assert ("plates.observatory.example serves it: decide" in (finding.remedy or "")) == told
        assert "chown www-data /srv/plates" in (finding.remedy or "")


SAID = [  # what PHP said of it, what is wanted, verdict, words of the remedy
    ("writable", "writable", "met", ""),
    ("read-only", "writable", "unmet", "let the user as whom PHP works write to /srv/plates"),
    ("writable", "read-only", "unmet", "let the user as whom PHP works read, and not write to, /srv/plates"),
    ("read-only", "there", "met", ""),
]


@pytest.mark.parametrize(("said", "wanted", "verdict", "words"), SAID)
def test_what_php_itself_said_of_a_directory_counts(said: str, wanted: str, verdict: str, words: str) -> None:
    where = Place(PLATES, "directory", mode=0o700, said=said)  # type: ignore[arg-type]
    finding = judged(f'[directories.required]\n"{PLATES}" = "{wanted}"\n', places=(where,))
    assert (finding.verdict, finding.found, finding.remedy or "") == (verdict, said, words)


def test_nobody_is_given_more_than_is_asked() -> None:
    """Whatever the owner and mode: afterwards the user can, and nobody else can write who could not before."""
    for mode in range(0, 0o1000, 7):
        for user, group in ((0, 0), (33, 33), (1000, 33), (1000, 1000), (0, 50)):
            finding = judged(
                f'[directories.required]\n"{PLATES}" = "writable"\n', places=(place(user=user, group=group, mode=mode),)
            )
            (change,) = finding.demands or (ArrangeDirectory(PLATES, "www-data"),)
            assert isinstance(change, ArrangeDirectory)
            after = place(
                user=33 if change.owner else user,
                group=33 if change.group else group,
                mode=mode if change.mode is None else change.mode,
            )
            assert allowed(after, WWW) & 7 == 7
            assert not after.mode & 0o002 & ~mode


GIGA = 2**30
HOST: list[tuple[str, str, dict[str, Any], str]] = [
    ("memory", ">= 2G", {}, "unknown"),
    ("memory", ">= 2G", {"machine": Machine(memory=2 * GIGA - 90 * 2**20)}, "met"),
    ("memory", ">= 4G", {"machine": Machine(memory=2 * GIGA)}, "unmet"),
    ("processors", ">= 2", {"machine": Machine(processors=2)}, "met"),
    ("processors", ">= 4", {"machine": Machine(processors=2)}, "unmet"),
    ("architecture", "arm64 | x86_64", {}, "met"),
    ("architecture", "arm64", {}, "unmet"),
    ("disk", ">= 1G", {}, "unknown"),
    ("disk", ">= 1G", {"places": (Place("/", "directory", free=3 * GIGA),)}, "met"),
    ("disk", ">= 9G", {"places": (Place("/", "directory", free=3 * GIGA),)}, "unmet"),
    ("time_zone", "set", {}, "unmet"),
    ("https", "on", {}, "unmet"),
    ("https", "on", {"sites": (replace(SITE, secure=True),)}, "met"),
    ("https", "on", {"sites": ()}, "unknown"),
]


@pytest.mark.parametrize(("name", "text", "change", "verdict"), HOST)
def test_the_machine(name: str, text: str, change: dict[str, Any], verdict: str) -> None:
    finding = judged(f'[host.required]\n{name} = "{text}"\n', **change)
    assert finding.verdict == verdict
    assert verdict == "met" or finding.remedy


TASKS: list[tuple[tuple[Scheduled, ...], str]] = [
    ((), "unmet"),
    ((Scheduled("bin/x.php", Origin("/etc/cron.d/x", 1), "www-data", 900),), "met"),
    ((Scheduled("bin/x.php", Origin("/etc/cron.d/x", 1), "www-data", 3600),), "unmet"),
    ((Scheduled("bin/x.php", Origin("/etc/cron.d/x", 1), "www-data", None),), "unknown"),
    ((Scheduled("bin/x.php", Origin("/etc/crontab", 1), "root", 60),), "met"),
]


@pytest.mark.parametrize(("found", "verdict"), TASKS)
def test_tasks(found: tuple[Scheduled, ...], verdict: str) -> None:
    assert judged('[tasks.required]\n"bin/x.php" = "every 15m"\n', tasks=found).verdict == verdict


@pytest.mark.parametrize(
    ("line", "every"),
    [
        ("* * * * *", 60), ("*/15 * * * *", 900), ("5 * * * *", 3600), ("0 3 * * *", 86400), ("0,30 8-20 * * *", 41400),
        ("7 3 * * 1-5", 3 * 86400), ("0 0 1 * *", 31 * 86400), ("0 4 * jan *", 366 * 86400), ("0 4 * * sun", 7 * 86400),
        ("nonsense * * * *", None), ("61 * * * *", None),
    ],
)  # fmt: skip
def test_how_often_a_line_of_cron_comes(line: str, every: int | None) -> None:
    assert interval(line.split()) == every


@pytest.mark.parametrize(
    ("every", "line"),
    [
        (60, "* * * * *"), (120, "*/2 * * * *"), (420, "*/6 * * * *"), (900, "*/15 * * * *"), (1800, "*/30 * * * *"),
        (3600, "20 * * * *"), (5 * 3600, "20 */4 * * *"), (12 * 3600, "20 */12 * * *"), (13 * 3600, "20 */12 * * *"),
        (86400, "20 3 * * *"), (7 * 86400, "20 3 * * 0"),
    ],
)  # fmt: skip
def test_a_planned_line_comes_often_enough(every: int, line: str) -> None:
    assert crontab(every) == line and (interval(line.split()) or 0) <= every
