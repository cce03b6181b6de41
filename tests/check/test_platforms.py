"""What differs between kinds of systems, asked of each entry; and an entry that only this file knows."""

import shlex
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from fundamentum import platforms
from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.plan.planner import plan
from fundamentum.platforms import names, platform
from fundamentum.report.playbook import as_playbook
from fundamentum.report.script import as_script
from fundamentum.survey.probes import system
from tests.small_root import TODAY, look, needs, small_root, write

VERSIONS = st.text("0123456789.:-+~^_a", max_size=12)

MADE_UP = '''
"""A system that there is not."""

from fundamentum.platforms.base import Platform


class Dome(Platform):
    packaged = carried_out = resolved_here = True
    sapi_packages = {"fpm": "php{branch}-fpm"}

    def install(self, packages, *, again=False):
        return ["turn-dome", *packages]

    def switch_file(self, branch, extension):
        return f"/etc/php/{branch}/mods-available/{extension}.ini"

    def service_check(self, service):
        return [f"/run/dome/{service}.pid", "test-dome", service]


PLATFORM = Dome()
'''

APT = "apt-get install --no-install-recommends gd"
APT_AGAIN = "apt-get install --reinstall --no-install-recommends gd"
COMMANDS = [  # platform, install, again, test of FPM's configuration, the php.ini of its own PHP
    ("debian", APT, APT_AGAIN, "php-fpm8.2 -t", "/etc/php/8.2/fpm/php.ini"),
    ("redhat", "dnf install gd", "dnf reinstall gd", "php-fpm -t", "/etc/php.ini"),
]


@pytest.mark.parametrize(("name", "install", "again", "test", "ini"), COMMANDS)
def test_commands(name: str, install: str, again: str, test: str, ini: str) -> None:
    one = platform(name)
    place = one.place("8.2", "fpm")
    assert shlex.join(one.install(["gd"])) == install
    assert shlex.join(one.install(["gd"], again=True)) == again
    assert shlex.join(one.service_check(place.service or "")[1:]) == test
    assert place.ini_file == ini


def test_a_word_that_no_platform_has_is_the_unknown_one() -> None:
    assert {"debian", "redhat", "windows", "page", "unknown"} <= {*names()}
    assert platform("../debian") is platform("base") is platform("unknown")
    assert not platform("unknown").carried_out


@pytest.mark.parametrize("name", sorted(names()))
@given(one=VERSIONS, two=VERSIONS)
def test_any_two_versions_are_ordered(name: str, one: str, two: str) -> None:
    order = platform(name).order
    assert order(one, one) == 0
    assert (order(one, two) > 0) == (order(two, one) < 0)


APT_HERE: dict[str, str | bytes] = {"var/lib/dpkg/status": "", "etc/apt/sources.list": ""}
RPM_HERE: dict[str, str | bytes] = {"var/lib/rpm/rpmdb.sqlite": "", "etc/yum.repos.d/base.repo": ""}
SYSTEMS = [  # os-release, what else is there, platform, words of the remark
    ("ID=debian\n", APT_HERE, "debian", None),
    ("ID='rhel'\n", RPM_HERE, "redhat", None),
    ('ID=dome\nID_LIKE="slit debian"\n', APT_HERE, "debian", "the Debian family: it says to be like debian"),
    ('NAME=Dome\nID=dome\nID_LIKE="rhel fedora"\n', RPM_HERE, "redhat", "Dome: treated as one of the RHEL family"),
    ("ID=dome\nID_LIKE=debian\n", RPM_HERE, "unknown", "dome: a kind of system that this program does not know"),
    ("ID=debian\n", RPM_HERE, "unknown", "does not know"),
    ('ID=dome\nID_LIKE="slit"\nPRETTY_NAME="Dome 3"\n', RPM_HERE, "unknown", "Dome 3: a kind of system that this"),
    ("ID=dome\nID_LIKE=rhel\n", {"var/lib/rpm/rpmdb.sqlite": ""}, "unknown", "does not know"),
    ("", APT_HERE, "debian", "does not say what it is"),
    ("", RPM_HERE, "redhat", "does not say what it is"),
    ("", {"var/lib/rpm/rpmdb.sqlite": ""}, "unknown", "no /etc/os-release"),
]


@pytest.mark.parametrize(("about", "there", "name", "said"), SYSTEMS)
def test_which_platform(tmp_path: Path, about: str, there: dict[str, str | bytes], name: str, said: str | None) -> None:
    write(tmp_path, {"etc/os-release": about, **there})
    found, remarks = system.probe(DirectoryHost(tmp_path, "mizar"))
    told = "\n".join(one.why for one in remarks)
    assert found.family == name
    assert not remarks if said is None else said in told


def test_another_distribution_s_php_is_judged_and_its_packages_are_not(tmp_path: Path) -> None:
    root = small_root(tmp_path, extra={"etc/os-release": 'ID=dome\nPRETTY_NAME="Dome 3"\n'})
    found = look(root)
    assert (found.system.family, found.offers, found.installed) == ("unknown", None, None)
    told = "\n".join(one.why for one in found.remarks)
    told += repr(plan([needs("gd")], found, today=TODAY)) + repr(check(needs("gd"), found))
    assert "Dome 3" in told
    assert not [word for word in ("apt", "dnf", "phpenmod") if word in told]


@pytest.fixture
def made_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    folder = tmp_path / "more"
    folder.mkdir()
    (folder / "dome.py").write_text(MADE_UP)
    (folder / "dome_script.sh").write_text('put_packages() { turn-dome -- "$@"; }\n')
    monkeypatch.setattr(platforms, "__path__", [*platforms.__path__, str(folder)])
    platform.cache_clear()
    yield "dome"
    platform.cache_clear()
    sys.modules.pop("fundamentum.platforms.dome", None)


def test_an_entry_is_a_file_and_nothing_else(tmp_path: Path, made_up: str) -> None:
    found = look(small_root(tmp_path / "root"))
    there = replace(found, system=replace(found.system, family=made_up))
    planned = plan([needs("gd")], there, today=TODAY)
    script = as_script(planned)
    assert "turn-dome" in script
    assert "test-dome" in script
    assert "apt-get install" not in script
    assert "test-dome" in as_playbook(planned)
