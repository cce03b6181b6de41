"""Archives of an application: the same needs as its directory, and nothing that leads out of it."""

import bz2
import io
import struct
import tarfile
import zipfile
import zlib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.cli.derivation import derived
from fundamentum.derive.application.archive import opened
from fundamentum.errors import InputError

FILES = {
    "index.php": b"<?php if (PHP_VERSION_ID < 80100) die('old'); echo mb_strlen('x');",
    "composer.json": b'{"name": "observatory/nightlog", "version": "2.1", "require": {"ext-intl": "*"}}',
    "img/dome.png": b"\x89PNG" * 1000,
}


def zipped(path: Path, files: dict[str, bytes], top: str = "") -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(top + name, data)
    return path


def tarred(path: Path, files: dict[str, bytes], mode: str, top: str = "nightlog-2.1/") -> Path:
    with tarfile.open(path, mode) as archive:  # type: ignore[call-overload]
        for name, data in files.items():
            about = tarfile.TarInfo(top + name)
            about.size = len(data)
            archive.addfile(about, io.BytesIO(data))
    return path


def phar(path: Path, files: dict[str, bytes], packed: int = 0) -> Path:
    """Source: php.net, "Phar File Format"."""
    entries, contents = b"", b""
    for name, data in files.items():
        squeezed = zlib.compressobj(9, zlib.DEFLATED, -15)
        content = {0: data, 0x1000: squeezed.compress(data) + squeezed.flush(), 0x2000: bz2.compress(data)}[packed]
        numbers = struct.pack("<IIIIII", len(data), 0, len(content), zlib.crc32(data), packed | 0o644, 0)
        entries += struct.pack("<I", len(name)) + name.encode() + numbers
        contents += content
    alias = b"nightlog.phar"
    manifest = struct.pack("<IHII", len(files), 0x1100, 0, len(alias)) + alias + struct.pack("<I", 0) + entries
    path.write_bytes(b"<?php __HALT_COMPILER(); ?>\r\n" + struct.pack("<I", len(manifest)) + manifest + contents)
    return path


@pytest.mark.parametrize(
    "made",
    [
        lambda folder: zipped(folder / "a.zip", FILES),
        lambda folder: zipped(folder / "a.zip", FILES, "nightlog-2.1/"),
        lambda folder: tarred(folder / "a.tar", FILES, "w"),
        lambda folder: tarred(folder / "a.tar.gz", FILES, "w:gz"),
        lambda folder: tarred(folder / "a.tar.xz", FILES, "w:xz"),
        lambda folder: tarred(folder / "a.tbz2", FILES, "w:bz2"),
        lambda folder: phar(folder / "a.phar", FILES),
        lambda folder: phar(folder / "a.phar", FILES, 0x1000),
        lambda folder: phar(folder / "a.phar", FILES, 0x2000),
    ],
)
def test_an_archive_tells_what_its_directory_would(tmp_path: Path, made: object) -> None:
    answer = derived(made(tmp_path))  # type: ignore[operator]
    result = answer.derived()
    assert (result.name, result.version) == ("nightlog", "2.1")
    assert {entry.key: entry.value for entry in result.entries} == {
        "php": ">=8.1", "extension:intl": "", "extension:mbstring": "",
    }  # fmt: skip


@pytest.mark.parametrize("name", ["../out.php", "/out.php", "a/../../out.php", "..\\out.php"])
def test_nothing_leads_out_of_an_archive(tmp_path: Path, name: str) -> None:
    inside = tmp_path / "inside"
    inside.mkdir()
    with opened(zipped(inside / "a.zip", {name: b"<?php", "index.php": b"<?php"})) as archive:
        assert [path.name for path in archive.root.rglob("*")] == ["index.php"]
        assert archive.remarks == ["1 members with names that lead elsewhere are passed over"]
        root = archive.root
    assert not root.exists()
    assert not list(tmp_path.rglob("out.php"))


def test_links_are_left_out(tmp_path: Path) -> None:
    path = tmp_path / "a.tar"
    with tarfile.open(path, "w") as archive:
        link = tarfile.TarInfo("etc.php")
        link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
        archive.addfile(link)
        about = tarfile.TarInfo("index.php")
        about.size = 5
        archive.addfile(about, io.BytesIO(b"<?php"))
    with opened(path) as found:
        assert [file.name for file in found.root.rglob("*")] == ["index.php"]
        assert found.remarks == ["1 links are not followed"]


@given(st.binary(max_size=200), st.sampled_from([".zip", ".tar.gz", ".phar", ".tar", ".tar.zst"]))
def test_anything_is_an_archive_or_refused_in_a_line(
    tmp_path_factory: pytest.TempPathFactory, data: bytes, ending: str
) -> None:
    path = tmp_path_factory.mktemp("any") / f"a{ending}"
    path.write_bytes(data)
    try:
        with opened(path) as archive:
            assert archive.root.is_dir()
    except InputError as error:
        assert "\n" not in str(error)


def test_what_is_too_much_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("fundamentum.derive.application.archive.MAX_TOTAL", 10)
    with pytest.raises(InputError, match="unpacks to more than"), opened(zipped(tmp_path / "a.zip", FILES)):
        pass
    monkeypatch.setattr("fundamentum.derive.application.archive.MAX_TOTAL", 10**6)
    monkeypatch.setattr("fundamentum.derive.application.archive.MAX_MEMBERS", 1)
    with pytest.raises(InputError, match="more than 1 files"), opened(zipped(tmp_path / "a.zip", FILES)):
        pass
