"""Programs that are run at set times: cron's tables, its directories, and timers."""

from pathlib import Path

import pytest

from fundamentum.catalog.cron import interval
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.probes import scheduled_tasks
from tests.small_root import write

CRON = "*/5 * * * * www-data php /srv/fetch.php\n"
CASES: list[tuple[dict[str, str | bytes], list[tuple[str, str, int | None]]]] = [  # files; origin, user, seconds
    ({"etc/crontab": f"# php /srv/fetch.php\n{CRON}"}, [("/etc/crontab:2", "www-data", 300)]),
    ({"etc/cron.d/x": CRON, "etc/cron.d/x.dpkg-old": CRON}, [("/etc/cron.d/x:1", "www-data", 300)]),
    ({"etc/cron.d/x": "0 3 * * * root other\n"}, []),
    ({"var/spool/cron/crontabs/ida": "0 * * * * php /srv/fetch.php\n"}, [("/var/spool/cron/crontabs/ida:1", "ida", 3600)]),
    ({"var/spool/cron/ida": "@daily php /srv/fetch.php\n"}, [("/var/spool/cron/ida:1", "ida", 86400)]),
    ({"etc/cron.d/x": "@hourly root php /srv/fetch.php\n"}, [("/etc/cron.d/x:1", "root", 3600)]),
    ({"etc/cron.d/x": "@reboot root php /srv/fetch.php\n"}, [("/etc/cron.d/x:1", "root", None)]),
    ({"etc/cron.d/x": "5 php /srv/fetch.php\n"}, [("/etc/cron.d/x:1", "", None)]),
    ({"etc/cron.hourly/x": "#!/bin/sh\nphp /srv/fetch.php\n"}, [("/etc/cron.hourly/x", "root", 3600)]),
    ({"etc/cron.weekly/x": "#!/bin/sh\n# php /srv/fetch.php\n"}, []),
    ({"etc/cron.monthly/x": "php /srv/fetch.php\n"}, [("/etc/cron.monthly/x", "root", 2678400)]),
    ({"etc/systemd/system/x.timer": "[Timer]\nOnUnitActiveSec=1h 30min\n", "etc/systemd/system/x.service": "[Service]\nUser=ida\nExecStart=php /srv/fetch.php\n"}, [("/etc/systemd/system/x.timer", "ida", 5400)]),
    ({"etc/systemd/system/x.timer": "[Timer]\nUnit=y.service\nOnCalendar=hourly\n", "etc/systemd/system/y.service": "[Service]\nExecStart=php /srv/fetch.php\n"}, [("/etc/systemd/system/x.timer", "root", 3600)]),
    ({"etc/systemd/system/x.timer": "OnCalendar=*:0/10\n", "etc/systemd/system/x.service": "ExecStart=php /srv/fetch.php\n"}, [("/etc/systemd/system/x.timer", "root", 600)]),
    ({"etc/systemd/system/x.timer": "OnCalendar=minutely\n", "etc/systemd/system/x.service": "ExecStart=php /srv/fetch.php\n"}, [("/etc/systemd/system/x.timer", "root", 60)]),
    ({"etc/systemd/system/x.timer": "OnCalendar=Mon 03:00\n", "etc/systemd/system/x.service": "ExecStart=php /srv/fetch.php\n"}, [("/etc/systemd/system/x.timer", "root", 604800)]),
    ({"etc/systemd/system/x.timer": "OnCalendar=*-*-* 02,14:00:00\n", "etc/systemd/system/x.service": "ExecStart=php /srv/fetch.php\n"}, [("/etc/systemd/system/x.timer", "root", 43200)]),
    ({"etc/systemd/system/x.timer": "OnUnitActiveSec=1h 30min\n", "etc/systemd/system/x.service": "ExecStart=php /srv/fetch.php\n"}, [("/etc/systemd/system/x.timer", "root", 5400)]),
    ({"etc/systemd/system/x.timer": "OnCalendar=2026-12-24\n", "etc/systemd/system/x.service": "ExecStart=php /srv/fetch.php\n"}, [("/etc/systemd/system/x.timer", "root", None)]),
    ({"etc/systemd/system/x.timer": "OnUnitInactiveSec=90\n", "etc/systemd/system/x.service": "ExecStart=php /srv/fetch.php\n"}, [("/etc/systemd/system/x.timer", "root", 90)]),
    ({"etc/systemd/system/x.service": "ExecStart=php /srv/fetch.php\n"}, []),
]  # fmt: skip


@pytest.mark.parametrize(("files", "expected"), CASES)
def test_tasks(tmp_path: Path, files: dict[str, str | bytes], expected: list[tuple[str, str, int | None]]) -> None:
    write(tmp_path, files)
    tasks, remarks = scheduled_tasks.probe(DirectoryHost(tmp_path, "x"), ["/srv/fetch.php"])
    assert [(str(task.origin), task.user, task.every) for task in tasks] == expected
    assert not remarks
    assert scheduled_tasks.probe(DirectoryHost(tmp_path, "x"), []) == ((), [])


LINES = [
    # the line, what it runs, the PHP that it names
    ("0 3 * * * ida php /srv/log/bin/fetch.php --all", "/srv/log/bin/fetch.php", "php"),
    (
        "0 3 * * * ida /usr/bin/php8.2 -d memory_limit=1G '/srv/log/bin/fetch.php' >/dev/null",
        "/srv/log/bin/fetch.php",
        "/usr/bin/php8.2",
    ),
    ("0 3 * * * ida cd /srv/log && php bin/fetch.php", "/srv/log/bin/fetch.php", "php"),
    ("0 3 * * * ida cd /srv/log; nice ./bin/fetch.php", "/srv/log/bin/fetch.php", ""),
    ("0 3 * * * ida php-cli /srv/now/bin/fetch.php", "/srv/log/bin/fetch.php", "php-cli"),
    ("0 3 * * * ida php bin/fetch.php", "", "php"),
    ("0 3 * * * ida php /srv/log/robin/fetch.php", "/srv/log/robin/fetch.php", "php"),
    ("0 3 * * * ida php /srv/log/bin/fetch.php5", "", ""),
]


@pytest.mark.parametrize(("line", "path", "program"), LINES)
def test_what_a_line_runs(tmp_path: Path, line: str, path: str, program: str) -> None:
    command = "fetch.php" if "robin" in line else "bin/fetch.php"
    write(tmp_path, {"etc/cron.d/x": line, "srv/log/bin/fetch.php": ""})
    (tmp_path / "srv/now").symlink_to("log")
    (task,), _ = scheduled_tasks.probe(DirectoryHost(tmp_path, "x"), [command])
    assert (task.path, task.program) == (path, program)


def test_what_cannot_be_read_is_said(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    write(tmp_path, {"var/spool/cron/crontabs/ida": "x", "etc/cron.d/good": CRON, "etc/crontab": b"x" * 5_000_000})
    monkeypatch.setattr("fundamentum.hosts.directory.MAX_NAMES", 0)
    tasks, remarks = scheduled_tasks.probe(DirectoryHost(tmp_path, "x"), ["/srv/fetch.php"])
    assert not tasks
    assert [("what users run" in remark.why or "what is run there" in remark.why) for remark in remarks] == [True] * 3
    monkeypatch.undo()
    tasks, remarks = scheduled_tasks.probe(DirectoryHost(tmp_path, "x"), ["/srv/fetch.php"])
    assert [str(task.origin) for task in tasks] == ["/etc/cron.d/good:1"]
    assert ["/etc/crontab" in remark.why for remark in remarks] == [True]


INTERVALS = [
    ("* * * * *", 60), ("*/15 * * * *", 900), ("0 */6 * * *", 21600), ("30 4 * * *", 86400), ("0 8-18 * * *", 50400),
    ("0 0 * * mon", 604800), ("0 0 * * 0,7", 604800), ("0 0 * * 1-5", 259200), ("0 0 1 * *", 2678400), ("0 0 1,15 * *", 1468800),
    ("0 0 * jan *", 31622400), ("0 0 1 1 *", 31622400), ("0,10 0 * * *", 85800), ("61 * * * *", None), ("x * * * *", None), ("5/20 * * * *", 1200),
]  # fmt: skip


@pytest.mark.parametrize(("fields", "seconds"), INTERVALS)
def test_intervals(fields: str, seconds: int | None) -> None:
    assert interval(fields.split()) == seconds


WORDS = {
    "@hourly": 3600,
    "@daily": 86400,
    "@midnight": 86400,
    "@weekly": 604800,
    "@monthly": 2678400,
    "@yearly": 31622400,
    "@annually": 31622400,
    "@reboot": None,
}


@pytest.mark.parametrize(("word", "seconds"), WORDS.items())
def test_words_for_times(tmp_path: Path, word: str, seconds: int | None) -> None:
    write(tmp_path, {"etc/cron.d/x": f"{word.upper()} root php /srv/fetch.php\n"})
    ((only,), _) = scheduled_tasks.probe(DirectoryHost(tmp_path, "x"), ["/srv/fetch.php"])
    assert (only.user, only.every) == ("root", seconds)


PERIODS = {"hourly": 3600, "daily": 86400, "weekly": 604800, "monthly": 2678400}


@pytest.mark.parametrize(("name", "seconds"), PERIODS.items())
def test_directories_and_timers_of_a_period(tmp_path: Path, name: str, seconds: int) -> None:
    unit = {
        "etc/systemd/system/x.timer": f"OnCalendar={name}\n",
        "etc/systemd/system/x.service": "ExecStart=php /srv/fetch.php\n",
    }
    write(tmp_path, {f"etc/cron.{name}/x": "php /srv/fetch.php\n", **unit})
    tasks, _ = scheduled_tasks.probe(DirectoryHost(tmp_path, "x"), ["/srv/fetch.php"])
    assert [task.every for task in tasks] == [seconds, seconds]
