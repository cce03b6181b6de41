"""Units and their drop-ins, read as systemd itself reads them."""

import os
import re
import shutil
import subprocess
from pathlib import Path

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.probes.start_options import FOLDERS, unit_of
from tests.small_root import write

SYSTEMD = shutil.which("systemd") or "/usr/lib/systemd/systemd"
pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(
        not Path(SYSTEMD).exists() and not os.environ.get("FUNDAMENTUM_REAL"), reason="systemd is not installed here"
    ),
]
UNIT = "usr/lib/systemd/system/php8.2-fpm.service"
ETC, RUN, LIB = "etc/systemd/system", "run/systemd/system", "usr/lib/systemd/system"
USUAL = "[Service]\nExecStart=/bin/true -F\nEnvironment=A=1\n"
CASES: list[dict[str, str | bytes]] = [
    {UNIT: USUAL},
    {UNIT: USUAL, f"{ETC}/php8.2-fpm.service": "[Service]\nExecStart=/bin/true -n\n"},
    {UNIT: USUAL, f"{ETC}/php8.2-fpm.service.d/x.conf": "[Service]\nExecStart=\nExecStart=/bin/true -d memory_limit=9M\n"},
    {UNIT: USUAL, f"{ETC}/php8.2-fpm.service.d/x.conf": "[Service]\nEnvironment=\nEnvironment=B=2 C=3\n"},
    {UNIT: USUAL, f"{ETC}/php8.2-fpm.service.d/x.conf": "[Service]\nEnvironmentFile=-/etc/default/x\n"},
    {UNIT: USUAL + "EnvironmentFile=-/etc/a\n", f"{RUN}/php8.2-fpm.service.d/x.conf": "[Service]\nEnvironmentFile=\n"},
    {UNIT: USUAL, f"{ETC}/php8.2-fpm.service.d/b.conf": "[Service]\nEnvironment=A=b\n", f"{LIB}/php8.2-fpm.service.d/a.conf": "[Service]\nEnvironment=A=a\n"},
    {UNIT: USUAL, f"{ETC}/php8.2-fpm.service.d/a.conf": "[Service]\nEnvironment=X=etc\n", f"{LIB}/php8.2-fpm.service.d/a.conf": "[Service]\nEnvironment=X=lib\n"},
    {UNIT: USUAL, f"{ETC}/service.d/a.conf": "[Service]\nEnvironment=X=all\n", f"{LIB}/php8.2-fpm.service.d/a.conf": "[Service]\nEnvironment=X=own\n"},
    {UNIT: USUAL, f"{ETC}/php8.2-.service.d/a.conf": "[Service]\nEnvironment=X=beginning\n"},
    {UNIT: USUAL, f"{ETC}/service.d/z.conf": "[Service]\nEnvironment=X=all\n", f"{LIB}/php8.2-.service.d/y.conf": "[Service]\nExecStart=\nExecStart=/bin/true\n"},
    {UNIT: USUAL, f"{ETC}/php8.2-fpm.service.d/x.conf": "[Service]\n# ExecStart=\nExecStart=\nExecStart=/bin/true \\\n  # no, this\n  -n \\\n  -c /x\n"},
    {UNIT: USUAL, f"{ETC}/php8.2-fpm.service.d/x": "[Service]\nExecStart=\n", f"{ETC}/php8.4-fpm.service.d/x.conf": "[Service]\nExecStart=\n"},
]  # fmt: skip


def by_systemd(root: Path) -> dict[str, list[str]]:
    """What systemd says it would do; it refuses to try as root."""
    paths = ":".join(f"{root}{folder}" for folder in FOLDERS)
    user = ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups"] if os.geteuid() == 0 else []
    command = [*user, SYSTEMD, "--test", "--system", "--unit=php8.2-fpm.service"]
    environment = {"SYSTEMD_UNIT_PATH": paths, "XDG_RUNTIME_DIR": "/tmp", "PATH": "/usr/bin:/bin"}
    said = subprocess.run(command, env=environment, capture_output=True, text=True, check=False, timeout=60)
    unit = said.stdout.partition("Unit php8.2-fpm.service:")[2].partition("-> Unit")[0]
    found = re.findall(r"^\s*(Command Line|Environment|EnvironmentFile): (.*)$", unit, re.M)
    assert unit, said.stderr
    names = {"Command Line": "ExecStart"}
    together: dict[str, list[str]] = {}
    for key, value in found:
        together.setdefault(names.get(key, key), []).append(value)
    return together


@pytest.mark.parametrize("files", CASES, ids=range(len(CASES)))
def test_what_counts_is_what_systemd_says(tmp_path: Path, files: dict[str, str | bytes]) -> None:
    write(tmp_path, {**{f"{LIB}/{name}.target": "[Unit]\n" for name in ("sysinit", "basic", "shutdown")}, **files})
    for path in (tmp_path, *tmp_path.parents[:3], *tmp_path.rglob("*")):
        path.chmod(path.stat().st_mode | (0o055 if path.is_dir() else 0o044))
    unit = unit_of(DirectoryHost(tmp_path, "x"), "php8.2-fpm")
    theirs = by_systemd(tmp_path)
    assert [line.value.split() for line in unit.lines("ExecStart")] == [their.split() for their in theirs["ExecStart"]]
    variables = [word for line in unit.lines("Environment") for word in line.value.split()]
    merged = {word.partition("=")[0]: word for word in variables}
    assert sorted(merged.values()) == sorted(theirs.get("Environment", []))
    assert [line.value for line in unit.lines("EnvironmentFile")] == theirs.get("EnvironmentFile", [])
