"""The RHEL family's packages: what rpm answers, repositories with module streams, the order of versions."""

import hashlib
from pathlib import Path

import pytest

from fundamentum.hosts.base import Question
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.packages import Offer
from fundamentum.model.remark import Remark
from fundamentum.platforms.redhat import dnf, rpm
from fundamentum.platforms.redhat.dnf_sources import MAX_EXCLUDED, configured
from fundamentum.platforms.redhat.rpm_version import rpm_order
from tests.small_root import write

VERSIONS = [  # one, two, order
    ("1.0-1", "1.0-1", 0), ("1.0-1", "1.0-2", -1), ("1.10-1", "1.9-1", 1), ("1:1.0-1", "2.0-1", 1), ("1.0~rc1-1", "1.0-1", -1),
    ("1.0^git1-1", "1.0-1", 1), ("1.0^git1-1", "1.0.1-1", -1), ("1.0a-1", "1.0-1", 1), ("1.a-1", "1.1-1", -1), ("1.01-1", "1.1-1", 0),
    ("1.0", "1.0-1", -1), ("a", "b", -1), ("8.2.9-1.el9", "8.2.10-1.el9", -1), ("1.0.0-1", "1.0-1", 1), ("1.0~a-1", "1.0~b-1", -1),
    ("1.0~-1", "1.0-1", -1), ("1.b-1", "1.a-1", 1), ("1.12-1", "1.2-1", 1),
]  # fmt: skip


@pytest.mark.parametrize(("one", "two", "order"), VERSIONS)
def test_versions(one: str, two: str, order: int) -> None:
    def sign(number: int) -> int:
        return (number > 0) - (number < 0)

    assert (sign(rpm_order(one, two)), sign(rpm_order(two, one))) == (order, -order)


def package(
    name: str, version: str, provides: str = "", files: str = "", arch: str = "x86_64", epoch: str = ""
) -> bytes:
    return "\t".join((name, epoch, version, "1", arch, provides, files)).encode() + b"\f\n"


class Answering(DirectoryHost):
    """A server whose own rpm answers."""

    answers: dict[str, bytes] = {}

    def answer(self, question: Question) -> bytes | None:
        return self.answers.get(question.name)


def test_what_rpm_answers(tmp_path: Path) -> None:
    host = Answering(tmp_path, "deneb")
    capabilities = (
        "php(api)\v8\v20220829-64\vphp-gd\v8\v8.2.9-1\vother\v0\v\vphp-any\v0\v\vphp-new\v12\v8\vphp-old\v2\v9\v"
    )
    host.answers = {
        "rpm-packages": package("php-gd", "8.2.9", capabilities) + package("bash", "5.1", arch="x86_64", epoch="2") + package("tzdata", "1", arch="noarch") + package("bad name", "1") + package("odd", "1 2") + package("key", "1", arch="(none)") + b"short\f\n",
        "rpm-files": package("php-gd", "8.2.9", files="/usr/lib64/php/modules/gd.so\v/etc/php.d/20-gd.ini\v"),
        "rpm-owners": package("bash", "5.1", files="/usr/bin/bash\v/usr/share/x\v"),
    }  # fmt: skip
    database = rpm.probe(host, ("/usr/lib64/php",), ["/usr/bin/bash"])
    assert [(installed.name, installed.version) for installed in database.packages or ()] == [
        ("bash", "2:5.1-1"),
        ("php-gd", "8.2.9-1"),
        ("tzdata", "1-1"),
    ]
    assert (database.packages or ())[
        1
    ].provides == "php(api) (= 20220829-64), php-gd (= 8.2.9-1), php-any, php-new (>= 8), php-old (< 9)"
    assert database.owners == {"/usr/lib64/php/modules/gd.so": "php-gd", "/usr/bin/bash": "bash"}
    assert (database.architecture, database.remarks) == ("x86_64", [])
    assert {"php(api)", "php-gd", "other", "php-any"} <= database.capabilities


def test_without_a_database_that_can_be_read_what_is_installed_is_unknown(tmp_path: Path) -> None:
    write(tmp_path, {"var/lib/rpm/Packages": b"old"})
    database = rpm.probe(DirectoryHost(tmp_path, "deneb"), ("/usr/lib64/php",))
    assert (database.packages, database.owners, database.architecture) == (None, {}, "")
    assert "only rpm itself reads" in database.remarks[0].why


ENTRY = '<rpm:entry name="{}" flags="{}" epoch="0" ver="{}" rel="{}"/>'
PACKAGE = (
    '<package type="rpm"><name>{name}</name><arch>{arch}</arch><version epoch="{epoch}" ver="{version}" rel="1"/><format>'
    "<rpm:provides>{provides}</rpm:provides><rpm:requires>{requires}</rpm:requires><file>{file}</file></format></package>"
)
MODULES = """\
---
document: modulemd-defaults
version: 1
data: {module: php, stream: '8.2'}
---
document: modulemd
data:
  name: php
  stream: '8.2'
  version: 2
  artifacts: {rpms: ['php-gd-0:8.2.9-1.x86_64', odd]}
---
document: modulemd
data:
  name: php
  stream: '8.2'
  version: 1
  artifacts: {rpms: ['php-old-0:8.2.0-1.x86_64']}
---
document: modulemd
data:
  name: php
  stream: 8.3
  version: 1
  artifacts: {rpms: ['php-gd-0:8.3.1-1.x86_64']}
"""
GD82 = {
    "name": "php-gd",
    "version": "8.2.9",
    "provides": ENTRY.format("php-gd", "EQ", "8.2.9", "1"),
    "requires": ENTRY.format("php-common", "EQ", "8.2.9", "1"),
}
PACKAGES = [
    GD82,
    GD82 | {"version": "8.3.1"},
    GD82 | {"version": "8.1.0", "requires": ""},
    {"name": "php-common", "version": "8.2.9", "provides": ENTRY.format("php-common", "EQ", "8.2.9", "1") + ENTRY.format("php(zend-abi)", "EQ", "20220829", "64")},
    {"name": "php-lost", "version": "1", "requires": ENTRY.format("nowhere", "", "", "") + ENTRY.format("/usr/bin/sh", "", "", "")},
    {"name": "php-arm", "version": "1", "arch": "aarch64"}, {"name": "php-src", "version": "1", "arch": "src"},
    {"name": "php-any", "version": "1", "arch": "noarch", "epoch": "3"}, {"name": "unrelated", "version": "1"},
    {"name": "wished", "version": "1"}, {"name": "tools", "version": "1", "file": "/usr/bin/orrery"}, {"name": "php-shut", "version": "1"},
]  # fmt: skip


def repository(root: Path, conf: str = "", switches: str = "", main: str = "", modules: str = MODULES) -> DirectoryHost:
    blank = {"arch": "x86_64", "epoch": "0", "provides": "", "requires": "", "file": ""}
    body = "".join(PACKAGE.format(**(blank | package)) for package in PACKAGES)
    primary = f'<metadata xmlns="http://linux.duke.edu/metadata/common" xmlns:rpm="http://linux.duke.edu/metadata/rpm">{body}</metadata>'
    data = {"primary": ("primary.xml", primary), "modules": ("modules.yaml", modules)}
    listed = "".join(
        f'<data type="{kind}"><checksum type="sha256">{hashlib.sha256(text.encode()).hexdigest()}</checksum><location href="repodata/{name}"/></data>'
        for kind, (name, text) in data.items()
    )
    cache = "var/cache/dnf/observatory-0123456789abcdef/repodata"
    write(root, {
        f"{cache}/repomd.xml": f'<repomd xmlns="http://linux.duke.edu/metadata/repo">{listed}</repomd>',
        **{f"{cache}/{name}": text for name, text in data.values()},
        "etc/yum.repos.d/x.repo": f"[observatory]\nname=Observatory\n{conf}\n[off]\nname=Off\nenabled=0\n", "etc/dnf/modules.d/php.module": switches,
        "etc/dnf/dnf.conf": f"[main]\n{main}\n",
    })  # fmt: skip
    return DirectoryHost(root, "deneb")


def offered(host: DirectoryHost) -> dict[tuple[str, str], Offer]:
    offers, repositories, remarks = dnf.probe(host, "x86_64", also={"wished"}, programs=["orrery"])
    assert [repository.name for repository in repositories] == ["Observatory"]
    assert not remarks
    return {(offer.name, offer.version): offer for offer in offers or ()}


STREAM_8_3 = "its module stream php:8.3 is not switched on"
TAKEN = "the module stream php:8.2 takes its place"
CASES = [  # repository's options, module switches, main options; what each php-gd says
    ("", "", "", ["", STREAM_8_3, TAKEN]),
    ("", "[php]\nstate=enabled\nstream=8.3\n", "", ["its module stream php:8.2 is not switched on", "", "the module stream php:8.3 takes its place"]),
    ("", "[php]\nstate=disabled\nstream=\n", "", ["its module stream php:8.2 is not switched on", STREAM_8_3, ""]),
    ("module_hotfixes=1", "", "", ["", "", ""]),
    ("excludepkgs=php-g*", "", "", ["excluded by the package manager's configuration"] * 3),
    ("", "", "excludepkgs=php-gd-8.2*", ["excluded by the package manager's configuration", STREAM_8_3, TAKEN]),
]  # fmt: skip


@pytest.mark.parametrize(("conf", "switches", "main", "said"), CASES)
def test_module_streams_and_exclusions(tmp_path: Path, conf: str, switches: str, main: str, said: list[str]) -> None:
    offers = offered(repository(tmp_path, conf, switches, main))
    assert [offers["php-gd", version].shut_out for version in ("8.2.9-1", "8.3.1-1", "8.1.0-1")] == said


def test_more_exclusions_than_anybody_has_are_said(tmp_path: Path) -> None:
    host = repository(tmp_path, f"excludepkgs={' '.join(f'{n}' for n in range(MAX_EXCLUDED))} php-gd", "", "")
    remarks: list[Remark] = []
    (source,) = configured(host, remarks)
    assert len(source.excluded) == MAX_EXCLUDED
    assert "more than 1000 patterns of packages that are left out" in remarks[0].why


def test_what_of_a_repository_concerns_php(tmp_path: Path) -> None:
    offers = offered(repository(tmp_path, "priority=10"))
    assert {name for name, _ in offers} == {
        "php-gd",
        "php-common",
        "php-lost",
        "php-any",
        "wished",
        "tools",
        "php-shut",
    }
    gd = offers["php-gd", "8.2.9-1"]
    assert (gd.source, gd.stream, gd.provides, gd.depends, gd.priority) == (
        "Observatory",
        "php:8.2",
        "php-gd (= 8.2.9-1)",
        "php-common (= 8.2.9-1)",
        589,
    )
    assert offers["php-common", "8.2.9-1"].provides == "php-common (= 8.2.9-1), php(zend-abi) (= 20220829-64)"
    assert offers["php-lost", "1-1"].shut_out == "it needs nowhere, which nothing here provides"
    assert ("php-any", "3:1-1") in offers
    assert offers["tools", "1-1"].provides == "/usr/bin/orrery"


def test_a_repository_without_metadata_is_a_remark(tmp_path: Path) -> None:
    write(tmp_path, {"etc/yum.repos.d/x.repo": "[observatory]\nname=Observatory\n"})
    offers, repositories, remarks = dnf.probe(DirectoryHost(tmp_path, "deneb"), "x86_64")
    assert (offers, repositories) == (None, [])
    assert ["nothing of it in dnf's cache" in remarks[0].why, "run dnf makecache" in remarks[-1].why] == [True, True]
