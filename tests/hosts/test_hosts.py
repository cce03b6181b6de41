"""Root directories: nothing leads outside."""

import os
from pathlib import Path

import pytest

from fundamentum.hosts.base import HostError
from fundamentum.hosts.directory import DirectoryHost


@pytest.fixture
def host(tmp_path: Path) -> DirectoryHost:
    root = tmp_path / "root"
    (root / "etc").mkdir(parents=True)
    (root / "etc/real").write_text("inside")
    (tmp_path / "secret").write_text("outside")
    return DirectoryHost(root, "mizar")


@pytest.mark.parametrize(
    ("target", "content"),
    [
        ("real", b"inside"),
        ("/etc/real", b"inside"),
        ("../etc/real", b"inside"),
        ("../../../../etc/real", b"inside"),
        ("../../secret", None),
        ("/secret", None),
        ("nowhere", None),
    ],
)
def test_links_are_taken_as_the_server_itself_would(host: DirectoryHost, target: str, content: bytes | None) -> None:
    (host.root / "etc/link").symlink_to(target)
    assert host.read("/etc/link") == content


def test_a_linked_directory_stays_inside(host: DirectoryHost) -> None:
    (host.root / "etc/up").symlink_to("../..")
    assert host.read("/etc/up/secret") is None
    assert host.read("/etc/up/etc/real") == b"inside"


def test_link_loops_are_an_error_and_no_hang(host: DirectoryHost) -> None:
    (host.root / "etc/a").symlink_to("b")
    (host.root / "etc/b").symlink_to("a")
    with pytest.raises(HostError, match="symbolic links"):
        host.read("/etc/a")


def test_a_pipe_in_the_way_is_an_error_and_no_hang(host: DirectoryHost) -> None:
    os.mkfifo(host.root / "etc/pipe")
    with pytest.raises(HostError, match="not a regular file"):
        host.read("/etc/pipe")


def test_reading_is_bounded(host: DirectoryHost) -> None:
    assert host.read("/etc/real", limit=6) == b"inside"
    with pytest.raises(HostError, match="larger than"):
        host.read("/etc/real", limit=3)


def test_what_is_missing_is_none(host: DirectoryHost) -> None:
    assert (
        host.read("/nope/x"),
        host.names("/nope"),
        host.stat("/nope"),
        host.read("/etc/real/x"),
        host.read("/etc/\0x"),
    ) == (None, [], None, None, None)
