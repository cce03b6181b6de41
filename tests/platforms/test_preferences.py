"""Which version of a package apt prefers: records of preference files, the default release, shy repositories."""

from pathlib import Path

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.packages import Repository
from fundamentum.platforms.debian import apt_pins
from tests.small_root import write

TRIXIE = Repository("trixie", origin="Debian", label="Debian", suite="testing", codename="trixie", component="main")
CASES = [  # preference file, default release, priority of php8.2-gd 8.2.9-1 from trixie
    ("", "", 500),
    ("", "testing", 990),
    ("", "trixie", 990),
    ("", "bookworm", 500),
    ("Package: *\nPin: release a=testing\nPin-Priority: 100\n", "testing", 100),
    ("Package: *\nPin: release a=stable\nPin-Priority: 100\n", "", 500),
    ("Package: *\nPin: release testing\nPin-Priority: 101\n", "", 101),
    ("Package: *\nPin: release trixie\nPin-Priority: 102\n", "", 102),
    ("Package: *\nPin: release stable\nPin-Priority: 102\n", "", 500),
    ("Package: *\nPin: release *\nPin-Priority: 103\n", "", 103),
    ("Package: *\nPin: release o=Debian, l=Debian, n=trixie, c=main\nPin-Priority: -1\n", "", -1),
    ("Package: *\nPin: release o=Debian, n=bookworm\nPin-Priority: -1\n", "", 500),
    ("Package: *\nPin: release x=Debian\nPin-Priority: -1\n", "", 500),
    ('Package: *\nPin: origin "mirror.example"\nPin-Priority: 104\n', "", 104),
    ("Package: *\nPin: origin other.example\nPin-Priority: 104\n", "", 500),
    ("Package: php8.2-gd\nPin: version 8.2.*\nPin-Priority: 1001\n", "", 1001),
    ("Package: php8.2-gd\nPin: version 8.3.*\nPin-Priority: 1001\n", "", 500),
    ("Package: php8.2-gd php8.2-xml\nPin: release a=testing\nPin-Priority: 105\n", "", 105),
    ("Package: php*-gd\nPin: release a=testing\nPin-Priority: 106\n", "", 106),
    ("Package: php*-xml\nPin: release a=testing\nPin-Priority: 106\n", "", 500),
    ("Package: /^php/\nPin: release a=testing\nPin-Priority: 107\n", "", 107),
    ("Package: /^xml/\nPin: release a=testing\nPin-Priority: 107\n", "", 500),
    ("Package: /(p|h)+/\nPin: release a=testing\nPin-Priority: 107\n", "", 500),  # not judged
    ("Package: /^p.*p.*[0-9]/\nPin: release a=testing\nPin-Priority: 107\n", "", 107),
    (f"Package: /{'p*h*' * 9}/\nPin: release a=testing\nPin-Priority: 107\n", "", 500),  # might take too long
    ("Package: *\nPin: release a=testing\nPin-Priority: 1\n\nPackage: php8.2-gd\nPin: release a=testing\nPin-Priority: 2\n", "", 2),
    ("# a comment\nPackage: *\n# another\nPin: release a=testing\nPin-Priority: 3\n", "", 3),
    ("Package: *\nPin: sky\nPin-Priority: 3\n", "", 500),
    ("Package: *\nPin: release a=testing\nPin-Priority: high\n", "", 500),
    ("Pin: release a=testing\nPin-Priority: 4\n", "", 500),
]  # fmt: skip


def pins(root: Path, text: str, release: str = "") -> tuple[apt_pins.Pins, list[str]]:
    conf = f'APT::Default-Release "{release}";\n' if release else ""
    write(root, {"etc/apt/preferences.d/50-x.pref": text, "etc/apt/apt.conf.d/10-x": conf})
    found, remarks = apt_pins.probe(DirectoryHost(root, "x"))
    return found, [remark.why for remark in remarks]


@pytest.mark.parametrize(("text", "release", "priority"), CASES)
def test_priorities(tmp_path: Path, text: str, release: str, priority: int) -> None:
    found, remarks = pins(tmp_path, text, release)
    assert found.priority("php8.2-gd", "8.2.9-1", TRIXIE, "mirror.example", None) == priority
    odd = "(p|h)" in text or "p*h*" in text or "sky" in text or "high" in text or text.startswith("Pin:")
    assert bool(remarks) is odd


@pytest.mark.parametrize(("release", "expected"), [({}, None), ({"NotAutomatic": "yes"}, 1), ({"NotAutomatic": "yes", "ButAutomaticUpgrades": "YES"}, 100), ({"ButAutomaticUpgrades": "yes"}, None)])  # fmt: skip
def test_a_repository_may_be_shy(release: dict[str, str], expected: int | None, tmp_path: Path) -> None:
    assert apt_pins.shyness(release) == expected
    found, _ = pins(tmp_path, "")
    assert found.priority("x", "1", TRIXIE, "", expected) == (500 if expected is None else expected)


@pytest.mark.parametrize(("name", "counts"), [("a.pref", True), ("plain", True), ("b.conf", False), ("c.pref~", False)])
def test_which_files_count(tmp_path: Path, name: str, counts: bool) -> None:
    write(tmp_path, {f"etc/apt/preferences.d/{name}": "Package: *\nPin: release *\nPin-Priority: 7\n"})
    found, _ = apt_pins.probe(DirectoryHost(tmp_path, "x"))
    assert bool(found.records) is counts


def test_the_last_default_release_counts_and_unreadable_preferences_are_said(tmp_path: Path) -> None:
    write(
        tmp_path,
        {"etc/apt/apt.conf": 'apt::default-release "one";\n', "etc/apt/apt.conf.d/x": 'APT::Default-Release "two";'},
    )
    (tmp_path / "etc/apt/preferences").mkdir()
    found, remarks = apt_pins.probe(DirectoryHost(tmp_path, "x"))
    assert found.default_release == "two"
    assert "which versions are preferred is unknown" in remarks[0].why


def test_more_names_than_anybody_prefers_are_not_looked_at(tmp_path: Path) -> None:
    many = " ".join(f"php{n}" for n in range(apt_pins.MAX_NAMES + 1))
    found, remarks = pins(tmp_path, f"Package: {many}\nPin: release *\nPin-Priority: 7\n", "testing")
    assert not found.records
    assert found.default_release == "testing"
    assert remarks == ["more than 5000 names of packages: which versions are preferred is unknown"]
