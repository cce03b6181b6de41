"""What is read from files is what the real PHP reports, for every way of running it: no difference at all."""

import subprocess

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.information_page import survey_page
from fundamentum.model.php import Runtime
from fundamentum.survey.observe import survey
from fundamentum.survey.survey_file import written

from .conftest import Server
from .running import report
from .twin import PLANTED

pytestmark = pytest.mark.real
RUNTIMES = ("cli", "cgi", "apache2", "fpm/www", "fpm/plates")


def runtime_of(server: Server, label: str) -> Runtime:
    surveyed = survey(DirectoryHost(server.root.path, "server"))
    return next(runtime for runtime in surveyed.runtimes if runtime.label == f"{server.branch}/{label}")


@pytest.mark.parametrize("label", RUNTIMES)
def test_extensions_and_settings_are_those_of_the_running_php(server: Server, label: str) -> None:
    ours = runtime_of(server, label)
    sapi, _, pool = label.partition("/")
    real = report(server.root, server.branch, sapi, pool or None)
    assert sorted(extension.shown for extension in ours.extensions if extension.fault is None) == sorted(
        real["extensions"]
    )
    # ini_get() makes no difference between a value that is empty and none at all.
    theirs = {name: value or "" for name, value in real["ini"].items()}
    unknown = {name for name, setting in ours.settings.items() if setting.value is None}
    assert unknown == {"user_agent"}, "it takes its value from the environment, which cannot be seen from here"
    known = {name: setting.value for name, setting in ours.settings.items() if name not in unknown}
    assert known == {name: theirs.get(name) for name in known}
    unreported = {name for name in theirs if name not in ours.settings}
    assert not unreported, f"{len(ours.settings)} directives compared, these are not reported: {unreported}"


@pytest.mark.parametrize(("program", "label"), [("php", "cli"), ("php-fpm", "fpm/www"), ("php-cgi", "cgi")])
def test_module_list_of_the_program(server: Server, program: str, label: str) -> None:
    command = ["chroot", str(server.root.path), f"{program}{server.branch}", "-d", "display_startup_errors=0", "-m"]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    listed = {
        line for line in done.stdout.splitlines() if line and not line.startswith(("[", "PHP Warning", "Warning"))
    }
    assert {extension.shown for extension in runtime_of(server, label).extensions if extension.fault is None} == listed


def test_what_is_switched_off_or_fails_is_told_apart(server: Server) -> None:
    fpm, cli = runtime_of(server, "fpm/www"), runtime_of(server, "cli")
    assert "gd" not in {extension.name for extension in fpm.extensions}
    assert {extension.name for extension in cli.extensions if extension.fault} == {"pdo_mysql", "pdo_sqlite"}
    assert {"opcache", "apcu"} <= {extension.name for extension in fpm.extensions}


def test_places_that_lost_are_shown(server: Server) -> None:
    setting = runtime_of(server, "fpm/www").settings["upload_max_filesize"]
    folder = f"/etc/php/{server.branch}/fpm/conf.d"
    assert (setting.value, str(setting.origin)) == ("64M", f"{folder}/60-later.ini:1")
    assert str(setting.overridden[0]) == f"{folder}/50-observatory.ini:3 (200)"


@pytest.mark.parametrize("form", ["text", "HTML"])
def test_an_information_page_tells_what_that_php_itself_reports(server: Server, form: str) -> None:
    root, branch = server.root, server.branch
    if form == "text":
        page, real = root.run(f"php{branch}", "-i", SECRET=PLANTED), report(root, branch, "cli")
    else:
        root.write("/tmp/info.php", "<?php phpinfo();")
        page = root.run(f"php-cgi{branch}", "-q", "/tmp/info.php", REDIRECT_STATUS="1", SECRET=PLANTED)
        real = report(root, branch, "cgi")
    surveyed = survey_page(page.encode(), "page")
    assert PLANTED in page
    assert PLANTED not in written(surveyed).decode()
    runtime = surveyed.runtimes[0]
    assert {extension.shown for extension in runtime.extensions} == set(real["extensions"])

    def alike(value: str | None) -> str:
        return {"": "0", None: "0", "On": "1", "on": "1", "Off": "0", "yes": "1"}.get(value, (value or "").strip())

    theirs = {name: alike(value) for name, value in real["ini"].items()}
    ours = {name: alike(setting.value) for name, setting in runtime.settings.items()}
    different = {name: (theirs.get(name), value) for name, value in ours.items() if theirs.get(name) != value}
    assert not different
    hidden = {name for name in theirs if name not in ours}
    assert all(name.startswith("mysqlnd.") for name in hidden), "that extension shows its settings in another way"
