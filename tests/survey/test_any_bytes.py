"""Whatever stands in a program, a package header or a repository's metadata: facts or a clean remark, within bounds."""

import gzip
import struct
from pathlib import Path

import lz4.block
import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.php_files import php_binaries
from fundamentum.platforms.debian import apt_pins
from fundamentum.platforms.redhat import dnf, rpm
from fundamentum.survey.observe import survey
from fundamentum.survey.survey_file import written
from fundamentum.untrusted.decompress import unpack
from tests.examples import examples
from tests.small_root import small_root, write

LIBRARY = next(Path(lz4.block.__file__).parent.glob("_block*.so")).read_bytes()[:200_000]
REPOMD = b"""<?xml version="1.0"?><repomd xmlns="http://linux.duke.edu/metadata/repo">
<data type="primary"><location href="repodata/primary.xml.gz"/></data>
<data type="modules"><location href="repodata/modules.yaml.zst"/></data></repomd>"""
PRIMARY = b"""<?xml version="1.0"?><metadata xmlns="http://linux.duke.edu/metadata/common" xmlns:rpm="http://linux.duke.edu/metadata/rpm">
<package type="rpm"><name>php-gd</name><arch>x86_64</arch><version epoch="0" ver="8.2.9" rel="1"/><format>
<rpm:provides><rpm:entry name="php-gd" flags="EQ" epoch="0" ver="8.2.9" rel="1"/></rpm:provides>
<rpm:requires><rpm:entry name="php-common" flags="EQ" epoch="0" ver="8.2.9"/></rpm:requires></format></package>
<package type="rpm"><name>php-common</name><arch>x86_64</arch><version epoch="0" ver="8.2.9" rel="1"/><format>
<rpm:provides><rpm:entry name="php-common" flags="EQ" ver="8.2.9" rel="1"/><rpm:entry name="php(zend-abi)" flags="EQ" ver="20220829-64"/>
</rpm:provides></format></package></metadata>"""
MODULES = b"---\ndocument: modulemd\nversion: 2\ndata:\n  name: php\n  stream: '8.2'\n  version: 1\n  artifacts:\n    rpms: [php-gd-0:8.2.9-1.x86_64]\n..."


def rpm_root(folder: Path, primary: bytes = PRIMARY, repomd: bytes = REPOMD, modules: bytes = MODULES) -> Path:
    cache = "var/cache/dnf/observatory-0123456789abcdef/repodata"
    files: dict[str, str | bytes] = {
        f"{cache}/repomd.xml": repomd,
        f"{cache}/primary.xml.gz": gzip.compress(primary),
        f"{cache}/modules.yaml.zst": zstandard.compress(modules),
        "etc/yum.repos.d/o.repo": "[observatory]\nname=Observatory\n[bare]\nenabled=0\n",
        "var/lib/rpm/rpmdb.sqlite": b"not a database",
    }
    write(folder, files)
    return folder


def test_metadata_as_it_should_be(tmp_path: Path) -> None:
    offers, _, remarks = dnf.probe(DirectoryHost(rpm_root(tmp_path), "deneb"), "x86_64")
    assert not remarks
    assert [(offer.name, offer.version, offer.stream, offer.shut_out) for offer in offers or ()] == [
        ("php-common", "8.2.9-1", "", ""),
        ("php-gd", "8.2.9-1", "php:8.2", "its module stream php:8.2 is not switched on"),
    ]


pieces = st.sampled_from(
    [
        PRIMARY[:400],
        PRIMARY[300:],
        REPOMD[:150],
        MODULES,
        b"<package>",
        b"</package>",
        b"&lt;",
        b"&x;",
        b"<!DOCTYPE a [<!ENTITY x 'y'>]>",
        b"\0",
        b"\xff",
        b"- a: *b",
        b"{{{{",
    ]
)
anything = st.binary(max_size=200) | st.lists(pieces, max_size=6).map(b"".join)


@settings(max_examples=examples(60))
@given(anything, anything, anything)
def test_any_metadata(tmp_path_factory: pytest.TempPathFactory, primary: bytes, repomd: bytes, modules: bytes) -> None:
    root = rpm_root(tmp_path_factory.mktemp("any"), primary, repomd, modules)
    surveyed = survey(DirectoryHost(root, "deneb"))
    assert surveyed.installed is None
    assert any("cannot be read as a database" in remark.why for remark in surveyed.remarks)


@pytest.mark.parametrize(
    "entities",
    [b"<!ENTITY b '%s'>" % (b"a" * 1000) + b"".join(b"<!ENTITY c%d '%s'>" % (n, b"&b;" * 50) for n in range(9))],
)
def test_entities_are_not_expanded(tmp_path: Path, entities: bytes) -> None:
    bomb = PRIMARY.replace(b"<metadata", b"<!DOCTYPE m [%s]><metadata" % entities, 1).replace(
        b"php-gd</name>", b"php-&c8;</name>"
    )
    offers, _, _ = dnf.probe(DirectoryHost(rpm_root(tmp_path, bomb), "deneb"), "x86_64")
    assert all(len(offer.name) < 100 for offer in offers or ())


def header(tags: dict[int, tuple[int, bytes, int]]) -> bytes:
    store, index = b"", b""
    for tag, (kind, data, count) in tags.items():
        store += b"\0" * (-len(store) % 4)
        index += struct.pack(">IIII", tag, kind, len(store), count)
        store += data
    return struct.pack(">II", len(tags), len(store)) + index + store


SOUND = {
    rpm.NAME: (6, b"php-gd\0", 1),
    rpm.VERSION: (6, b"8.2.9\0", 1),
    rpm.RELEASE: (6, b"1\0", 1),
    rpm.EPOCH: (4, struct.pack(">I", 2), 1),
    rpm.ARCH: (6, b"x86_64\0", 1),
    rpm.BASENAMES: (8, b"gd.so\0", 1),
    rpm.DIRNAMES: (8, b"/usr/lib64/php/modules/\0", 1),
    rpm.DIRINDEXES: (4, struct.pack(">I", 0), 1),
}


def test_a_package_header() -> None:
    package = rpm.read_header(header(SOUND))
    assert package
    assert (package.evr, package.files) == ("2:8.2.9-1", ["/usr/lib64/php/modules/gd.so"])


@given(
    st.binary(max_size=300)
    | st.tuples(st.integers(0, 300), st.binary(min_size=1, max_size=8)).map(
        lambda at: header(SOUND)[: at[0]] + at[1] + header(SOUND)[at[0] + len(at[1]) :]
    )
)
def test_any_package_header(data: bytes) -> None:
    package = rpm.read_header(data)
    assert package is None or package.name


@settings(deadline=None, max_examples=examples(150))
@given(st.integers(0, 4000), st.binary(min_size=1, max_size=16), st.integers(20, len(LIBRARY)), st.booleans())
def test_any_program_file(at: int, change: bytes, length: int, windows: bool) -> None:
    data = (b"MZ" if windows else LIBRARY[:2]) + LIBRARY[2:at] + change + LIBRARY[at + len(change) : length]
    data += b"\0API20220829,NTS\0X-Powered-By: PHP/8.2.9\0"
    try:
        binary = php_binaries.examine(data)
    except php_binaries.NotAnExtension as error:
        assert str(error)
    else:
        assert php_binaries.misfit(binary, binary.build) is None
    assert php_binaries.program(data).version == "8.2.9"


@given(st.binary(max_size=300))
def test_any_bytes_unpack_or_give_a_reason(data: bytes) -> None:
    for packing in (".gz", ".xz", ".bz2", ".lz4", ".zst"):
        out, problem = unpack(data, packing, 10_000)
        assert len(out) <= 10_000
        assert problem is not None or isinstance(out, bytes)


def test_unpacking_stops_at_its_bound() -> None:
    assert len(unpack(zstandard.compress(bytes(10**7)), ".zst", 1000)[0]) == 1000
    assert "larger than" in (unpack(gzip.compress(bytes(10**7)), ".gz", 1000)[1] or "")


@given(st.text(alphabet=st.sampled_from('Package: Pin-Priority\n*/()[]+?.a1 release=,o"'), max_size=200))
def test_any_preferences(tmp_path_factory: pytest.TempPathFactory, text: str) -> None:
    root = small_root(
        tmp_path_factory.mktemp("any"), extra={"etc/apt/preferences": text, "etc/apt/preferences.d/x": text}
    )
    apt_pins.probe(DirectoryHost(root, "mizar"))
    assert written(survey(DirectoryHost(root, "mizar")))
