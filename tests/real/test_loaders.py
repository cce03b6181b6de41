"""Extension files that do not fit, each for another reason: what is said is what the real PHP does with them."""

import subprocess
from pathlib import Path

import pytest
from debian_root import Root, base

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.php import Loaded, Runtime
from fundamentum.platforms.debian import apt
from fundamentum.survey.observe import survey

from .built import LOADER, MODULE, build, build_windows, headers, missing
from .conftest import REAL, Server

pytestmark = pytest.mark.real
BRANCH_OF_BUILD = "8.2"


@pytest.fixture(scope="session")
def files(tmp_path_factory: pytest.TempPathFactory) -> Path:
    if missing():
        (pytest.fail if REAL else pytest.skip)(f"{missing()} is not installed")
    folder = tmp_path_factory.mktemp("built")
    include = headers(base("bookworm"), folder / "headers")

    def module(name: str, *options: str, requires: str = "standard") -> Path:
        return build(MODULE % {"name": name, "requires": requires}, folder / f"{name}.so", include, *options)

    plain = module("observatory")
    module("threads", "-DZTS=1")
    module("debugging", "-DDEBUGGING")
    module("dependent", requires="telescope")
    build(LOADER, folder / "orrery.so", include)
    data = bytearray(plain.read_bytes())
    data[18:20] = b"\xb7\0"  # ARM64
    (folder / "foreign.so").write_bytes(data)
    (folder / "corrupt.so").write_bytes(plain.read_bytes()[:60])  # cut further on, PHP itself would crash
    (folder / "text.so").write_text("<?php // no library at all")
    build_windows(folder / "windows.so", 'ENTRY(observatory, "observatory");')
    return folder


CASES = [  # lines, name of the extension, words of the fault where the branch is that of the build
    ("extension=observatory", "observatory", None),
    ("extension=threads", "threads", "for a thread-safe PHP, and this one is non-thread-safe"),
    ("extension=debugging", "debugging", "for a debug build of PHP"),
    ("extension=dependent", "dependent", "needs telescope"),
    ("extension=foreign", "observatory", "another processor (ARM64, 64 bits; this PHP is x86-64)"),
    ("extension=corrupt", "corrupt", "damaged"),
    ("extension=text", "text", "is no shared library"),
    ("extension=windows", "observatory", "is a Windows library"),
    ("extension=nowhere", "nowhere", "does not exist"),
    ("extension=/opt/loaders/nowhere.so", "nowhere", "extensions of this PHP are in"),
    ("extension=observatory\nextension=observatory", "observatory", "loaded twice"),
    ("extension=orrery", "orrery loader", "loaded with zend_extension="),
    ("zend_extension=observatory", "observatory", "loaded with extension="),
    ("zend_extension=orrery", "orrery loader", None),
    ("zend_extension=opcache\nzend_extension=orrery", "orrery loader", "has to be the first Zend extension"),
]


@pytest.fixture(autouse=True)
def _no_indexes(monkeypatch: pytest.MonkeyPatch) -> None:
    """Package indexes say nothing about files, and take time to read."""
    monkeypatch.setattr(apt, "probe", lambda host, architecture, also=(): (None, [], []))


def command_line(root: Root) -> Runtime:
    return next(runtime for runtime in survey(DirectoryHost(root.path, "server")).runtimes if runtime.sapi == "cli")


def listed(root: Root, branch: str) -> set[str]:
    done = subprocess.run(
        ["chroot", str(root.path), f"php{branch}", "-d", "display_startup_errors=0", "-m"],
        capture_output=True,
        text=True,
    )
    return {line for line in done.stdout.splitlines() if line and line[0] != "[" and "Warning" not in line}


@pytest.mark.parametrize(("lines", "name", "words"), CASES, ids=[case[0].replace("\n", " ") for case in CASES])
def test_each_reason_is_told(server: Server, files: Path, lines: str, name: str, words: str | None) -> None:
    root, branch = server.root, server.branch
    conf = root.path / f"etc/php/{branch}/cli/conf.d"
    opcache = next(iter(conf.glob("*opcache.ini")))
    opcache_link = opcache.readlink()
    before = command_line(root)
    directory = root.path / survey(DirectoryHost(root.path, "x")).branches[0].extension_dir.lstrip("/")
    put = [directory / file.name for file in files.glob("*.so") if file.stem in lines]
    for path in put:
        path.write_bytes((files / path.name).read_bytes())
    if "opcache" in lines or lines == "zend_extension=orrery":
        opcache.unlink()
    test = conf / "05-test.ini"
    test.write_text(lines + "\n")
    try:
        runtime = command_line(root)
        assert {extension.shown for extension in runtime.extensions if extension.fault is None} == listed(root, branch)
        mine = [
            extension
            for extension in runtime.extensions
            if extension.name == name and extension.origin.file.startswith(str(test)[len(str(root.path)) :])
        ]
        if branch == BRANCH_OF_BUILD or words in ("does not exist", "extensions of this PHP are in", "damaged"):
            assert_fault(mine, words)
        elif words is None or "loaded" in words or "first" in words or "needs" in words:
            assert_fault(mine[:1], f"built for PHP {BRANCH_OF_BUILD}, not {branch}")
        else:
            assert mine[0].fault
    finally:
        test.unlink()
        for path in put:
            path.unlink()
        if not opcache.is_symlink():
            opcache.symlink_to(opcache_link)
    assert command_line(root) == before


def assert_fault(mine: list[Loaded], words: str | None) -> None:
    assert mine
    if words is None:
        assert [extension.fault for extension in mine] == [None]
    else:
        fault = mine[-1].fault
        assert fault
        assert words in fault.words
