"""How PHP is started: what units, drop-ins and environments decide about its configuration."""

from pathlib import Path

import pytest

from tests.small_root import look, small_root

UNIT = "usr/lib/systemd/system/php8.2-fpm.service"
DROP_IN = "etc/systemd/system/php8.2-fpm.service.d/x.conf"
USUAL = (
    "[Service]\nType=notify\nExecStart=/usr/sbin/php-fpm8.2 --nodaemonize --fpm-config /etc/php/8.2/fpm/php-fpm.conf\n"
)


def exec_start(options: str, reset: bool = True) -> str:
    return "[Service]\n" + ("ExecStart=\n" if reset else "") + f"ExecStart=/usr/sbin/php-fpm8.2 {options}\n"


Files = dict[str, str | bytes]
CASES: list[tuple[Files, str | None, str]] = [  # units; memory_limit (None: not known) and where it is from
    ({}, "128M", "built-in"),
    ({UNIT: USUAL}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: exec_start("-d memory_limit=99M")}, "99M", f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("-dmemory_limit=98M")}, "98M", f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("--define=memory_limit=97M")}, "97M", f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("--nodaemonize \\\n    -d memory_limit=96M")}, "96M", f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("-c /etc/other")}, None, f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("--php-ini=/etc/other")}, None, f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("-n")}, None, f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("-y /etc/other.conf")}, None, f"/{DROP_IN}:3"),
    ({UNIT: USUAL, DROP_IN: exec_start("-y /etc/php/8.2/fpm/php-fpm.conf -g /run/x.pid -F")}, "128M", "built-in"),
    ({UNIT: USUAL.replace("-fpm.conf", "-fpm.conf -n"), DROP_IN: exec_start("-F")}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironment=PHPRC=/etc/other\n"}, None, f"/{DROP_IN}:2"),
    ({UNIT: USUAL, DROP_IN: '[Service]\nEnvironment="A=b" "PHP_INI_SCAN_DIR=/x"\n'}, None, f"/{DROP_IN}:2"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironment=A=b\n[Unit]\nEnvironment=PHPRC=/x\n"}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironmentFile=-/etc/default/x\n", "etc/default/x": "A=1\nPHPRC=/x\n"}, None, "/etc/default/x:2"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironmentFile=-/etc/default/x\n", "etc/default/x": "# PHPRC=/x\n"}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: "[Service]\nEnvironmentFile=-/etc/default/x\n"}, "128M", "built-in"),
    ({UNIT: exec_start("-n"), "etc/systemd/system/php8.2-fpm.service": USUAL}, "128M", "built-in"),
    ({UNIT: USUAL, "usr/lib/systemd/system/php8.2-fpm.service.d/x.conf": exec_start("-n"), DROP_IN: exec_start("-F")}, "128M", "built-in"),
    ({UNIT: USUAL, "etc/systemd/system/service.d/a.conf": "[Service]\nEnvironment=PHPRC=/x\n"}, None, "/etc/systemd/system/service.d/a.conf:2"),
    ({UNIT: USUAL, "etc/systemd/system/php8.4-fpm.service.d/x.conf": exec_start("-n")}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN + "~": exec_start("-n")}, "128M", "built-in"),
    ({UNIT: USUAL, DROP_IN: exec_start('"-n')}, None, f"/{DROP_IN}:3"),
]  # fmt: skip


@pytest.mark.parametrize(("files", "value", "origin"), CASES)
def test_what_counts(tmp_path: Path, files: Files, value: str | None, origin: str) -> None:
    found = look(small_root(tmp_path, extra=files))
    setting = next(one for one in found.runtimes if one.sapi == "fpm").settings["memory_limit"]
    assert (setting.value, str(setting.origin)) == (value, origin)
    said = [
        remark.why for one in found.runtimes for remark in one.remarks if "reads other files than usual" in remark.why
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
