"""What is read from files is what the real PHP reports, for every way of running it: no difference at all."""

import subprocess

import pytest
from debian_root import Root

from fundamentum.catalog import canonical
from fundamentum.server.hosts import DirectoryHost
from fundamentum.server.model import Runtime
from fundamentum.server.survey import survey

from .running import report

pytestmark = pytest.mark.real
RUNTIMES = ("cli", "cgi", "apache2", "fpm/www", "fpm/plates")


def runtime_of(root: Root, label: str) -> Runtime:
    found = survey(DirectoryHost(root.path, "bookworm"))
    return next(runtime for runtime in found.runtimes if runtime.label == label)


@pytest.mark.parametrize("label", RUNTIMES)
def test_extensions_and_settings_are_those_of_the_running_php(bookworm: Root, label: str) -> None:
    ours = runtime_of(bookworm, f"8.2/{label}")
    sapi, _, pool = label.partition("/")
    real = report(bookworm, "8.2", sapi, pool or None)
    assert sorted(one.shown for one in ours.extensions if one.problem is None) == sorted(real["extensions"])
    # ini_get() makes no difference between a value that is empty and none at all.
    theirs = {name: value or "" for name, value in real["ini"].items()}
    unknown = {name for name, setting in ours.settings.items() if setting.value is None}
    assert unknown == {"user_agent"}, "it takes its value from the environment, which cannot be seen from here"
    known = {name: setting.value for name, setting in ours.settings.items() if name not in unknown}
    assert known == {name: theirs.get(name) for name in known}
    unreported = {name for name in theirs if name not in ours.settings}
    assert not unreported, f"{len(ours.settings)} directives compared, these are not reported: {unreported}"


@pytest.mark.parametrize(
    ("program", "label"), [("php8.2", "8.2/cli"), ("php-fpm8.2", "8.2/fpm/www"), ("php-cgi8.2", "8.2/cgi")]
)
def test_module_list_of_the_program(bookworm: Root, program: str, label: str) -> None:
    done = subprocess.run(["chroot", str(bookworm.path), program, "-m"], capture_output=True, text=True, check=True)
    listed = {
        line for line in done.stdout.splitlines() if line and not line.startswith(("[", "PHP Warning", "Warning"))
    }
    assert {one.shown for one in runtime_of(bookworm, label).extensions if one.problem is None} == listed


def test_what_is_switched_off_or_fails_is_told_apart(bookworm: Root) -> None:
    fpm, cli = runtime_of(bookworm, "8.2/fpm/www"), runtime_of(bookworm, "8.2/cli")
    assert "gd" not in {one.name for one in fpm.extensions}
    assert {one.name for one in cli.extensions if one.problem} == {"pdo_mysql", "pdo_sqlite"}
    assert canonical("Zend OPcache") in {one.name for one in fpm.extensions}


def test_places_that_lost_are_shown(bookworm: Root) -> None:
    setting = runtime_of(bookworm, "8.2/fpm/www").settings["upload_max_filesize"]
    assert (setting.value, setting.origin) == ("64M", "/etc/php/8.2/fpm/conf.d/60-later.ini:1")
    assert setting.overridden[0] == "/etc/php/8.2/fpm/conf.d/50-observatory.ini:3 (200)"
