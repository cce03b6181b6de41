"""What commands print about the shipped example, kept word for word in tests/cli/outputs, so that a change of words shows.

    python -m tests.cli.outputs_kept

writes all of them anew, on a day that stays the same.
"""

import contextlib
import gc
import io
import os
import re
import shlex
import sys
import tempfile
import tomllib
from collections.abc import Iterator
from datetime import date
from pathlib import Path

import fundamentum.demo
from fundamentum.cli.main import main
from tests.around import around_root, site
from tests.small_root import MODULE

FOLDER = Path(__file__).with_name("outputs")
DATA = Path(fundamentum.demo.__file__).parent / "data"
SERVERS = FOLDER.with_name("servers")
"""Surveys of other kinds of servers, which tests/real/sample_servers.py takes of what it builds."""
STATUS = "".join(
    f"Package: {name}\nStatus: {state}\nArchitecture: amd64\nVersion: {version}\n\n"
    for name, state, version in (
        ("dpkg", "install ok installed", "1.21"),
        ("php8.2-common", "install ok installed", "8.2.9-1"),
        ("php8.2-fpm", "install ok installed", "8.2.9-1"),
        ("nginx", "install ok installed", "1.22.1-9"),
        ("mariadb-server", "hold ok installed", "1:10.11.6-0+deb12u1"),
        ("libicu72", "install ok installed", "72.1-3"),
        ("redis-server", "install ok installed", "5:7.0.15-1"),
        ("php8.2-snmp", "install ok installed", "8.2.9-1"),
        ("locales", "install ok installed", "2.36-9"),
        ("cron", "install ok installed", "3.0pl1-162"),
        ("git", "install ok unpacked", "1:2.39.5-0+deb12u2"),
    )
)
ALL = "nightlog.needs.toml platevault.needs.toml domekeeper.needs.toml"
OTHER = "nightlog.needs.toml --server"
VEGA = "nightlog.needs.toml --server vega.survey.json"
OUTPUTS = {
    "help": "--help",
    "help-check": "check --help",
    "help-compare": "compare --help",
    "help-derive": "derive --help",
    "help-needs": "needs --help",
    "help-plan": "plan --help",
    "help-survey": "survey --help",
    "help-trace": "trace --help",
    "help-help": "help --help",
    "topics": "help",
    "check-altair": f"check {ALL} --server altair.survey.json --verbose",
    "check-deneb": f"check {ALL} --server deneb.survey.json",
    "check-json": f"check {VEGA} --format json",
    "check-mizar": f"check {ALL} --server mizar.survey.json --accepted vega.accepted.toml",
    "check-quiet": f"check {ALL} --server vega.survey.json --quiet",
    "compare": "compare altair.survey.json vega.survey.json",
    "derive": "derive domekeeper --fresh",
    "derive-json": "derive domekeeper --format json --fresh",
    "derive-two": "derive domekeeper platevault",
    "derive-explain": "derive domekeeper --explain php",
    "needs": "needs platevault.needs.toml",
    "plan": f"plan {ALL} --server vega.survey.json --full",
    "plan-deneb": f"plan {ALL} --server deneb.survey.json",
    "plan-json": f"plan {VEGA} --format json",
    "plan-new-site": "plan nightlog.needs.toml --server altair.survey.json --site new.observatory.example --directory /srv/new",
    "plan-new-site-files": "plan nightlog.needs.toml --server altair.survey.json --site new.observatory.example "
    "--directory /srv/new --format json",
    "plan-mizar": f"plan {ALL} --server mizar.survey.json --format json",
    "plan-playbook": f"plan {VEGA} --format playbook",
    "plan-script": f"plan {VEGA} --format script",
    "recorder-powershell": "survey --recorder powershell --for nightlog.needs.toml",
    "recorder-shell": "survey --recorder shell --for nightlog.needs.toml",
    "rpm-check-json": f"check {OTHER} rpm.survey.json --format json",
    "rpm-check": f"check {OTHER} rpm.survey.json --verbose",
    "rpm-plan": f"plan {OTHER} rpm.survey.json --runtime 8.2/fpm/www",
    "rpm-playbook": f"plan {OTHER} rpm.survey.json --format playbook",
    "rpm-script": f"plan {OTHER} rpm.survey.json --format script",
    "rpm-site": f"plan {OTHER} rpm.survey.json --site nightlog.observatory.example --directory /srv/nightlog",
    "survey": "survey vega.survey.json",
    "windows-bundle-check": f"check {OTHER} bundle.survey.json --verbose",
    "windows-bundle-plan": f"plan {OTHER} bundle.survey.json",
    "windows-check": f"check {OTHER} iis.survey.json --runtime nightlog",
    "windows-check-json": f"check {OTHER} iis.survey.json --runtime nightlog --format json",
    "windows-plan-json": f"plan {OTHER} iis.survey.json --runtime plates --format json",
    "windows-plan": f"plan {OTHER} iis.survey.json --runtime plates",
    "windows-pool-plan": f"plan {OTHER} pool.survey.json",
    "windows-script": f"plan {OTHER} iis-sample.survey.json --format script",
    "windows-survey": "survey iis.survey.json",
    "windows-trace": "trace intl --server iis.survey.json",
    "full-check": "check full.needs.toml --server mizar --verbose",
    "full-plan": "plan full.needs.toml --server mizar --full",
    "full-site": "plan full.needs.toml --server mizar --site new.observatory.example --directory /srv/new --format json",
    "full-required": "plan full.needs.toml --server mizar --required-only",
    "full-script": "plan full.needs.toml --server mizar --format script",
    "full-playbook": "plan full.needs.toml --server mizar --format playbook",
    "full-trace-command": "trace command:git full.needs.toml --server mizar",
    "full-trace-loaded": "trace snmp full.needs.toml --server mizar",
    "full-trace": "trace upload_max_filesize --server mizar",
    "full-json": "check full.needs.toml --server mizar --format json",
    "full-plan-json": "plan full.needs.toml --server mizar --format json",
    "full-apache-plan-json": "plan full.needs.toml --server deneb --runtime 8.2/fpm/www --format json",
    "full-compare-json": "compare mizar deneb --format json",
    "full-after": "plan full.needs.toml --server mizar --after-installation",
    "full-survey": "survey mizar -o mizar.survey.json",
    "full-colours": "check full.needs.toml --server mizar --color always",
    "full-plan-colours": "plan full.needs.toml --server mizar --color always",
    "full-trace-colours": "trace memory_limit full.needs.toml --server mizar --color always",
    "full-trace-intl-colours": "trace intl full.needs.toml --server mizar --color always",
    "full-trace-package": "trace package:php8.2-gd --server mizar",
    "full-trace-nothing": "trace no_such_setting --server mizar",
    "full-trace-missing": "trace command:unzip full.needs.toml --server deneb --color always",
    "full-trace-zone": "trace date.timezone full.needs.toml --server deneb",
    "full-trace-socket": "trace snmp --server deneb --color always",
    "full-compare-colours": "compare mizar deneb --color always",
    "full-survey-colours": "survey deneb --color always",
    "full-needs-colours": "needs full.needs.toml --color always",
    "full-served-colours": "check --server deneb --color always",
    "full-quiet": "check full.needs.toml --server mizar --quiet",
    "full-served": "check --server deneb",
    "full-apache-check": "check full.needs.toml --server deneb --runtime 8.2/fpm/nightlog --verbose",
    "full-apache-json": "check full.needs.toml --server deneb --runtime 8.2/fpm/www --format json",
    "full-apache-plan": "plan full.needs.toml --server deneb --runtime 8.2/fpm/nightlog --full",
    "full-apache-script": "plan full.needs.toml --server deneb --runtime 8.2/fpm/nightlog --format script",
    "full-apache-playbook": "plan full.needs.toml --server deneb --runtime 8.2/fpm/www --format playbook",
    "full-apache-survey": "survey deneb -o deneb.survey.json",
    "full-apache-said": "survey deneb",
    "full-compare": "compare mizar deneb",
    "derive-colours": "derive domekeeper --fresh --color always",
    "derive-two-colours": "derive domekeeper platevault --color always",
    "derive-explain-colours": "derive domekeeper --explain php --color always",
    "check-newest": "check nightlog.needs.toml platevault.needs.toml --newest --server vega.survey.json",
    "trace-line": "trace --server vega.survey.json -- apt-get install php7.4-gd php-intl libapache2-mod-php unzip comet",
    "trace-line-colours": "trace --server vega.survey.json --color always -- apt install -y php8.2-gd php8.2-imap php-comet",
    "windows-trace-setting": f"trace memory_limit {OTHER} iis.survey.json",
    "windows-check-colours": f"check {OTHER} iis.survey.json --runtime plates --color always",
    "rpm-trace": f"trace gd {OTHER} rpm.survey.json --color always",
    "rpm-trace-package": "trace package:php-gd --server rpm.survey.json",
    "rpm-compare": "compare rpm.survey.json iis.survey.json",
    "trace-extension": "trace intl --server vega.survey.json",
    "trace-needed": f"trace intl {ALL} --server vega.survey.json",
    "trace-needed-setting": f"trace upload_max_filesize {ALL} --server vega.survey.json",
    "trace-package": "trace php8.2-gd --server mizar.survey.json",
    "trace-setting": "trace memory_limit --server mizar.survey.json",
}


_MOMENTS = re.compile(
    r'("(?:taken|modified|fetched|started)":|^(?:\x1b\[[\d;]*m)*looked at)(?:\x1b\[[\d;]*m| )+\d[\d :-]*', re.M
)
"""When something was looked at or written: another moment each time."""
OTHERS = ("windows", "rpm")
FPM_INI = "memory_limit = 96M\npost_max_size = 4M\ndisable_functions = exec\nmax_input_vars = 500\n"
FILES: dict[str, str | bytes] = {
    "etc/mysql/my.cnf": "[mysqld]\nmax_allowed_packet = 4M\n!includedir /etc/mysql/conf.d/\n",
    "etc/mysql/conf.d/10-own.cnf": "[mariadb]\ninnodb-file-per-table = OFF\n",
    "etc/php/8.2/mods-available/snmp.ini": "extension=snmp.so\n",
    "etc/php/8.2/fpm/conf.d/20-snmp.ini": "extension=snmp.so\n",
    "usr/lib/php/20220829/snmp.so": MODULE,
    "var/lib/dpkg/info/php8.2-snmp.list": "/usr/lib/php/20220829/snmp.so\n",
    "etc/cron.d/nightlog": "5 * * * * ida php /srv/nightlog/bin/collect.php\n",
    "etc/locale.gen": "# de_DE.UTF-8 UTF-8\nen_GB.UTF-8 UTF-8\n",
    "srv/nightlog/bin/collect.php": "<?php\n",
    "srv/nightlog/bin/report.php": "<?php\n",
    "srv/nightlog/public/.user.ini": "upload_max_filesize = 8M\n",
    "srv/nightlog/config/site.php": "<?php\n",
    "srv/nightlog/public/files/plate.txt": "",
    "usr/bin/git": "#!/bin/sh\n",
    "var/lib/dpkg/status": STATUS,
}


def full_servers(folder: Path) -> None:
    """Servers with something of everything, built anew, and an application that needs something of everything."""
    files = tomllib.loads((SERVERS / "apache.files.toml").read_text("utf-8"))["files"]
    around_root(folder / "deneb", http="", fpm_ini=FPM_INI, extra=files)
    for nginx in ("nginx.conf", "sites-enabled/nightlog"):
        (folder / "deneb/etc/nginx" / nginx).unlink()
    (folder / "full.needs.toml").write_text((SERVERS / "full.needs.toml").read_text())
    root = around_root(folder / "mizar", nginx=site("client_max_body_size 5m;\n"), fpm_ini=FPM_INI, extra=FILES)
    (root / "srv/nightlog/var/cache").mkdir(parents=True)
    (root / "srv/nightlog/var/cache").chmod(0o755)
    (root / "srv/nightlog/config").chmod(0o777)


class SameDay(date):
    """A calendar on which it is always the same day."""

    @classmethod
    def today(cls) -> "SameDay":
        return cls(2026, 3, 1)


@contextlib.contextmanager
def on_the_same_day() -> Iterator[None]:
    """As long as this lasts, every module of the program believes that it is that day."""
    changed = [
        module for name, module in sys.modules.items() if name.startswith("fundamentum.") and hasattr(module, "date")
    ]
    for module in changed:
        module.date = SameDay  # type: ignore[attr-defined]
    try:
        yield
    finally:
        for module in changed:
            module.date = date  # type: ignore[attr-defined]


def output(name: str) -> str:
    """What one command prints, with its exit code, on a terminal of 100 columns without colours."""
    if not name.startswith("full"):
        return _output(OUTPUTS[name], SERVERS if name.startswith(OTHERS) else DATA)
    with tempfile.TemporaryDirectory() as folder:
        full_servers(Path(folder))
        told = _output(OUTPUTS[name], Path(folder))
        written = "".join(path.read_text() for path in Path(folder).glob("*.survey.json"))
        return _MOMENTS.sub(r"\1 0", told + written)


def _output(command: str, folder: Path) -> str:
    said, errors = io.TextIOWrapper(io.BytesIO(), "utf-8", newline="", write_through=True), io.StringIO()
    here = Path.cwd()
    before = dict(os.environ)
    os.environ.update({"COLUMNS": "100"} if "--color" in command else {"COLUMNS": "100", "NO_COLOR": "1"})
    try:
        os.chdir(folder)
        with on_the_same_day(), contextlib.redirect_stdout(said), contextlib.redirect_stderr(errors):
            try:
                code: object = main(shlex.split(command))
            except SystemExit as ended:
                code = ended.code
    finally:
        gc.enable()  # the program leaves it off for the rest of its own short run
        os.chdir(here)
        os.environ.clear()
        os.environ.update(before)
    return f"$ fundamentum {command}\n{said.buffer.getvalue().decode()}{errors.getvalue()}exit {code}\n"


if __name__ == "__main__":
    FOLDER.mkdir(exist_ok=True)
    for old in set(FOLDER.glob("*.txt")) - {FOLDER / f"{name}.txt" for name in OUTPUTS}:
        old.unlink()
    for name in OUTPUTS:
        (FOLDER / f"{name}.txt").write_bytes(output(name).encode())
