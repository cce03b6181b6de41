"""How PHP is started: what units, drop-ins and environments decide about its configuration."""

from pathlib import Path

import pytest

from fundamentum.changes.extension_line import LoadByLine
from fundamentum.changes.extension_switch import EnableExtension
from fundamentum.check.judge import check
from fundamentum.plan.planner import plan
from tests.small_root import TODAY, look, needs, small_root

UNIT = "usr/lib/systemd/system/php8.2-fpm.service"
DROP_IN = "etc/systemd/system/php8.2-fpm.service.d/x.conf"
USUAL = (
    "[Service]\nType=notify\nExecStart=/usr/sbin/php-fpm8.2 --nodaemonize --fpm-config /etc/php/8.2/fpm/php-fpm.conf\n"
)


def exec_start(options: str, reset: bool = True) -> str:
    return "[Service]\n" + ("ExecStart=\n" if reset else "") + f"ExecStart=/usr/sbin/php-fpm8.2 {options}\n"


OTHER: dict[str, str | bytes] = {"o/php.ini": "memory_limit=70M\n"}
USUAL_INI: dict[str, str | bytes] = {"etc/php/8.2/fpm/php.ini": "memory_limit=73M\n"}
SCANNED: dict[str, str | bytes] = {
    "etc/php/8.2/fpm/conf.d/x.ini": "memory_limit=72M\n",
    "s/x.ini": "memory_limit=74M\n",
}
DEFAULTS = "etc/default/php-fpm8.2"
Files = dict[str, str | bytes]
CASES: list[tuple[Files, str | None, str]] = [  # units; memory_limit (None: not known) and where it is from
    ({}, "128M", "built-in"),
    ({UNIT: USUAL}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: exec_start("-d memory_limit=99M")}, "99M", f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("-dmemory_limit=98M")}, "98M", f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("--define=memory_limit=97M")}, "97M", f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("--nodaemonize \\\n    -d memory_limit=96M")}, "96M", f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("-c /o"), **OTHER}, "70M", "/o/php.ini:1"),
    ({UNIT: USUAL, DROP_IN: exec_start("-c /o"), **OTHER, "o/php-fpm-fcgi.ini": "memory_limit=71M"}, "71M", "/o/php-fpm-fcgi.ini:1"),
    ({UNIT: USUAL, DROP_IN: exec_start("--php-ini=/o/php.ini"), **OTHER}, "70M", "/o/php.ini:1"),
    ({UNIT: USUAL, DROP_IN: exec_start("-c /nowhere"), **USUAL_INI}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: exec_start("-c o"), **OTHER}, None, f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("-n"), **USUAL_INI}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: exec_start("-n -c /o"), **OTHER, **USUAL_INI, **SCANNED}, "70M", "/o/php.ini:1"),
    ({UNIT: USUAL, DROP_IN: exec_start("-F"), **OTHER, **USUAL_INI, **SCANNED}, "72M", "/etc/php/8.2/fpm/conf.d/x.ini:1"),
    ({UNIT: USUAL, DROP_IN: exec_start("-y $CONF")}, None, f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nExecStart=\nExecStart=/usr/local/bin/wrapped\n"}, None, f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("-y /etc/php/8.2/fpm/php-fpm.conf -g /run/x.pid -F")}, "128M", "built-in"),
    ({UNIT: USUAL.replace("-fpm.conf", "-fpm.conf -n"), DROP_IN: exec_start("-F"), **USUAL_INI}, "73M", "/etc/php/8.2/fpm/php.ini:1"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironment=PHPRC=/o\n", **OTHER, **USUAL_INI}, "70M", "/o/php.ini:1"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironment=PHPRC=/o/php.ini\n", **OTHER, **USUAL_INI}, "70M", "/o/php.ini:1"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironment=PHPRC=/nowhere\n", **USUAL_INI}, "73M", "/etc/php/8.2/fpm/php.ini:1"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironment=PHPRC=/o\nUnsetEnvironment=PHPRC\n", **OTHER, **USUAL_INI}, "73M", "/etc/php/8.2/fpm/php.ini:1"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironment=PHPRC=%h/x\n"}, None, f"/{DROP_IN}:2"),
    ({UNIT: USUAL, DROP_IN: '[Service]\nEnvironment="A=b" "PHP_INI_SCAN_DIR=/s"\n', **SCANNED}, "74M", "/s/x.ini:1"),
    ({UNIT: USUAL, DROP_IN: '[Service]\nEnvironment="PHP_INI_SCAN_DIR=/s:"\n', **SCANNED}, "72M", "/etc/php/8.2/fpm/conf.d/x.ini:1"),
    ({UNIT: USUAL, DROP_IN: '[Service]\nEnvironment="PHP_INI_SCAN_DIR="\n', **SCANNED}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironment=A=b\n[Unit]\nEnvironment=PHPRC=/o\n", **OTHER}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironmentFile=-/etc/default/x\n", "etc/default/x": "A=1\nPHPRC=/o\n", **OTHER}, "70M", "/o/php.ini:1"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironmentFile=-/etc/default/x\n", "etc/default/x": "# PHPRC=/o\n", **OTHER}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironmentFile=-/etc/default/x\n"}, "128M", "built-in"),
    ({UNIT: exec_start("-d memory_limit=1M"), "etc/systemd/system/php8.2-fpm.service": USUAL}, "128M", "built-in"),
    ({UNIT: USUAL, "usr/lib/systemd/system/php8.2-fpm.service.d/x.conf": exec_start("-n"), DROP_IN: exec_start("-F"), **USUAL_INI}, "73M", "/etc/php/8.2/fpm/php.ini:1"),
    ({UNIT: USUAL, "etc/systemd/system/service.d/a.conf": "[Service]\nEnvironment=PHPRC=/o\n", **OTHER}, "70M", "/o/php.ini:1"),
    ({UNIT: USUAL, "etc/systemd/system/php8.4-fpm.service.d/x.conf": exec_start("-n"), **USUAL_INI}, "73M", "/etc/php/8.2/fpm/php.ini:1"),
    ({UNIT: USUAL, DROP_IN + "~": exec_start("-n"), **USUAL_INI}, "73M", "/etc/php/8.2/fpm/php.ini:1"),
    ({UNIT: USUAL, DROP_IN: exec_start('"-n"'), **USUAL_INI}, "128M", "built-in"),
    ({DEFAULTS: "export PHPRC=/o\n", **OTHER}, "70M", "/o/php.ini:1"),
    ({DEFAULTS: "PHPRC=/o\n", **OTHER}, "128M", "built-in"),
    ({DEFAULTS: 'DAEMON_ARGS="--daemonize --fpm-config $CONFFILE -d memory_limit=75M"\n'}, "75M", f"/{DEFAULTS}:1"),
    ({DEFAULTS: 'DAEMON_ARGS="-d memory_limit=75M"\n', "usr/lib/systemd/systemd": ""}, "128M", "built-in"),
]  # fmt: skip


@pytest.mark.parametrize(("files", "value", "origin"), CASES)
def test_what_counts(tmp_path: Path, files: Files, value: str | None, origin: str) -> None:
    survey = look(small_root(tmp_path, extra=files))
    setting = next(runtime for runtime in survey.runtimes if runtime.sapi == "fpm").settings["memory_limit"]
    assert (setting.value, str(setting.origin)) == (value, origin)
    said = [
        remark.why
        for runtime in survey.runtimes
        for remark in runtime.remarks
        if "reads other files than usual" in remark.why
    ]
    assert bool(said) is (value is None)


def test_a_pool_outranks_the_command_line(tmp_path: Path) -> None:
    pool = "[www]\nuser = www-data\nlisten = /run/php/php8.2-fpm.sock\nphp_value[memory_limit] = 50M\n"
    root = small_root(
        tmp_path,
        extra={UNIT: USUAL, DROP_IN: exec_start("-d memory_limit=99M"), "etc/php/8.2/fpm/pool.d/www.conf": pool},
    )
    setting = look(root).runtimes[0].settings["memory_limit"]
    assert (setting.value, [str(lost) for lost in setting.overridden]) == ("50M", [f"/{DROP_IN}:3 (99M)"])


SECOND = "usr/lib/systemd/system/second.service"
BESIDE: Files = {
    UNIT: USUAL,
    SECOND: "[Service]\nExecStart=/usr/sbin/php-fpm8.2 -F -y /etc/second.conf -d memory_limit=60M\n",
    "etc/second.conf": "[www]\nuser = ida\nlisten = /run/second.sock\n",
    "etc/nginx/nginx.conf": "http { server { server_name a; root /srv/a; location / { fastcgi_pass unix:/run/second.sock; } } }\n",
}


def test_another_process_manager_of_the_branch_is_a_runtime_of_its_own(tmp_path: Path) -> None:
    survey = look(small_root(tmp_path, extra=BESIDE))
    assert [runtime.label for runtime in survey.runtimes] == ["8.2/fpm/www", "8.2/fpm/www@second"]
    assert survey.sites[0].runtime == "8.2/fpm/www@second"
    other = survey.runtimes[1]
    assert (other.service, other.settings["memory_limit"].value, other.user) == ("second", "60M", "ida")
    judged = check(needs(), survey, "8.2/fpm/www@second")
    assert judged.findings[0].verdict == "met"


def test_what_packages_switch_on_counts_only_where_it_is_read(tmp_path: Path) -> None:
    files: Files = {UNIT: USUAL, DROP_IN: '[Service]\nEnvironment="PHP_INI_SCAN_DIR=/s"\n', **SCANNED}
    survey = look(small_root(tmp_path, ["ctype"], extra=files))
    assert [extension.name for extension in survey.runtimes[0].extensions if extension.path] == []
    made = plan([needs("ctype", "gd")], survey, "8.2/fpm/www", today=TODAY)
    assert made.complete and not made.of(EnableExtension)
    assert sorted((load_by_line.file, load_by_line.line) for load_by_line in made.of(LoadByLine)) == [
        ("/s/30-ctype.ini", "extension=ctype"),
        ("/s/30-gd.ini", "extension=gd"),
    ]
