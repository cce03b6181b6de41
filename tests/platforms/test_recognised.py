"""Which kind of system a server is, and what differs between them."""

import shlex
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.plan.planner import plan
from fundamentum.platforms import names, platform
from fundamentum.survey.probes import distribution
from tests.small_root import TODAY, look, needs, small_root, write

VERSIONS = st.text("0123456789.:-+~^_a", max_size=12)

APT = "apt-get install --no-install-recommends gd"
APT_AGAIN = "apt-get install --reinstall --no-install-recommends gd"
COMMANDS = [  # platform, install, again, test of FPM's configuration, the php.ini of its own PHP
    ("debian", APT, APT_AGAIN, "php-fpm8.2 -t", "/etc/php/8.2/fpm/php.ini"),
    ("redhat", "dnf install gd", "dnf reinstall gd", "php-fpm -t", "/etc/php.ini"),
]


@pytest.mark.parametrize(("name", "install", "again", "test", "ini"), COMMANDS)
def test_commands(name: str, install: str, again: str, test: str, ini: str) -> None:
    family = platform(name)
    place = family.place("8.2", "fpm")
    assert shlex.join(family.install(["gd"])) == install
    assert shlex.join(family.install(["gd"], again=True)) == again
    assert shlex.join(family.service_check(place.service or "")[1:]) == test
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
    system, remarks = distribution.probe(DirectoryHost(tmp_path, "mizar"))
    told = "\n".join(remark.why for remark in remarks)
    assert system.family == name
    assert not remarks if said is None else said in told


def test_another_distribution_s_php_is_judged_and_its_packages_are_not(tmp_path: Path) -> None:
    root = small_root(tmp_path, extra={"etc/os-release": 'ID=dome\nPRETTY_NAME="Dome 3"\n'})
    survey = look(root)
    assert (survey.system.family, survey.offers, survey.installed) == ("unknown", None, None)
    told = "\n".join(remark.why for remark in survey.remarks)
    told += repr(plan([needs("gd")], survey, today=TODAY)) + repr(check(needs("gd"), survey))
    assert "Dome 3" in told
    assert not [word for word in ("apt", "dnf", "phpenmod") if word in told]
