"""Programs: where they are, what they came with, and which index names the package of those that are not there."""

import gzip
import tempfile
from collections.abc import Callable
from pathlib import Path

import lz4.frame
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.surrounding_facts import Asked, Command
from fundamentum.platforms.debian.contents import bringing
from fundamentum.survey.observe import survey
from tests.around import MORE, around_root
from tests.small_root import LISTS, write

FILES = (
    b"bin/starmap\tscience/starmap-old\nboot/x\tkernel/x\netc/orrery\tmisc/orrery\n"
    b"usr/bin/orrery          misc/orrery-tools,contrib/misc/orrery-extra\nusr/bin/other\tmisc/other\n"
    b"usr/lib/bin/orrery\tmisc/wrong\nusr/share/orrery\tmisc/wrong\n"
)
CNF = "suite: bookworm\ncomponent: main\narch: amd64\n\nname: git-tools\nversion: 1\ncommands: git-clean, git-star\n\nname: Bad Name\ncommands: git-star\n"
PACKERS: list[tuple[str, Callable[[bytes], bytes]]] = [
    ("", bytes),
    (".gz", gzip.compress),
    (".lz4", lz4.frame.compress),
]


def listed(root: Path, packing: str, data: bytes) -> DirectoryHost:
    write(root, {f"{LISTS}/mirror_dists_bookworm_main_Contents-amd64{packing}": data})
    return DirectoryHost(root, "x")


@pytest.mark.parametrize(("packing", "pack"), PACKERS)
def test_lists_of_files_name_the_package(tmp_path: Path, packing: str, pack: Callable[[bytes], bytes]) -> None:
    found = bringing(listed(tmp_path, packing, pack(FILES)), ["orrery", "starmap", "absent"])
    assert found == {"orrery": ["orrery-tools", "orrery-extra"], "starmap": ["starmap-old"]}


@given(st.sampled_from([".gz", ".lz4", ""]), st.binary(max_size=200), st.integers(0, 200))
def test_damaged_lists_tell_what_they_can(packing: str, noise: bytes, cut: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        data = dict(PACKERS)[packing](FILES)[:cut] + noise
        bringing(listed(Path(folder), packing, data), ["orrery"])


def test_where_programs_are_and_what_brings_them(tmp_path: Path) -> None:
    root = around_root(
        tmp_path,
        extra={
            "usr/bin/git": "#!/bin/sh\n",
            "usr/local/bin/mail": "#!/bin/sh\n",
            "usr/bin/convert-real": "#!/bin/sh\n",
            "usr/bin/notes": "no program",
            "var/lib/dpkg/info/git.list": "/.\n/usr/bin/git\n",
            "var/lib/dpkg/info/pictures:amd64.list": "/usr/bin/convert-real\n",
            f"{LISTS}/mirror_dists_bookworm_main_cnf_Commands-amd64": CNF,
        },
    )
    (root / f"{LISTS}/mirror_debian_dists_bookworm_main_binary-amd64_Packages").write_text(
        MORE + "\nPackage: git-tools\nVersion: 1\nArchitecture: all\n"
    )
    for name in ("usr/bin/git", "usr/local/bin/mail", "usr/bin/convert-real"):
        (root / name).chmod(0o755)
    (root / "usr/bin/convert").symlink_to("/usr/bin/convert-real")
    asked = Asked(commands=("git", "mail", "convert", "notes", "git-star", "unzip", "orrery"))
    commands = survey(DirectoryHost(root, "mizar"), asked).commands
    assert commands == (
        Command("git", "/usr/bin/git", "git", ("git",)),
        Command("mail", "/usr/local/bin/mail"),
        Command("convert", "/usr/bin/convert", "pictures", ("imagemagick",)),
        Command("notes"),
        Command("git-star", None, None, ("git-tools",)),
        Command("unzip", None, None, ("unzip",)),
        Command("orrery"),
    )
