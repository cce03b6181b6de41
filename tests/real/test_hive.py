"""Registry hives that the real hivex wrote, read back."""

import shutil
import subprocess
from pathlib import Path

import pytest

from fundamentum.hosts.windows_directory import WindowsHost
from fundamentum.platforms.windows import registry
from tests.hives import empty_hive
from tests.small_root import write

from .conftest import REAL

pytestmark = pytest.mark.real
SOFTWARE = r"""Windows Registry Editor Version 5.00

[\PHP]
"IniFilePath"="C:\\all"

[\PHP\8.3]
"IniFilePath"="C:\\conf"
"Number"=dword:00000005

[\PHP\Per Directory Values]

[\PHP\Per Directory Values\C]

[\PHP\Per Directory Values\C\inetpub]
"memory_limit"="1G"

[\WOW6432Node]

[\WOW6432Node\PHP]

[\WOW6432Node\PHP\8.3]
"IniFilePath"="C:\\small"
"""
SYSTEM = r"""Windows Registry Editor Version 5.00

[\ControlSet001]

[\ControlSet001\Control]

[\ControlSet001\Control\Session Manager]

[\ControlSet001\Control\Session Manager\Environment]
"PHPRC"=hex(2):43,00,3a,00,5c,00,72,00,63,00,00,00
"Path"="C:\\Windows"
"""


def merged(path: Path, text: str) -> None:
    path.write_bytes(empty_hive())
    edit = path.with_suffix(".reg.txt")
    edit.write_text(text)
    command = ["hivexregedit", "--merge", str(path), str(edit)]
    subprocess.run(command, check=True, capture_output=True)
    edit.unlink()


def test_what_hives_say_of_php(tmp_path: Path) -> None:
    if not shutil.which("hivexregedit"):
        (pytest.fail if REAL else pytest.skip)("hivexregedit is not installed")
    write(tmp_path, {"Windows/System32/config/x": ""})
    folder = tmp_path / "Windows/System32/config"
    merged(folder / "SOFTWARE", SOFTWARE)
    merged(folder / "SYSTEM", SYSTEM)
    found = registry.read(WindowsHost(tmp_path, "x"), [])
    assert found.unread == ()
    assert (found.ini_folders("8.3.12", False), found.ini_folders("8.4.1", False)) == (["C:\\conf"], ["C:\\all"])
    assert (found.ini_folders("8.3.12", True), found.ini_folders("8.4.1", True)) == (["C:\\small"], [])
    assert found.environment() == {"PHPRC": "C:\\rc"}
    assert [value.name for value in found.per_directory()] == ["memory_limit"]


def test_the_empty_hive_is_one_for_others_too(tmp_path: Path) -> None:
    if not shutil.which("hivexml"):
        (pytest.fail if REAL else pytest.skip)("hivexml is not installed")
    (tmp_path / "empty").write_bytes(empty_hive())
    said = subprocess.run(["hivexml", str(tmp_path / "empty")], check=True, capture_output=True, text=True).stdout
    assert "<node" in said
