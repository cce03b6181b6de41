"""Small trees, each one trait of real applications: the version of PHP, and the level of each extension."""

import tomllib
from pathlib import Path
from typing import Any

import pytest

from fundamentum.derive.derive import derive
from tests.small_root import write

TREES: list[dict[str, Any]] = tomllib.loads(Path(__file__).with_name("traits.toml").read_text("utf-8"))["tree"]


@pytest.mark.parametrize("tree", TREES, ids=[tree["trait"] for tree in TREES])
def test_a_trait(tree: dict[str, Any], tmp_path: Path) -> None:
    write(tmp_path, tree["files"])
    found = derive(tmp_path)
    php = next((entry.value for entry in found.entries if entry.kind == "php"), "")
    levels: dict[str, list[str]] = {"required": [], "recommended": []}
    for entry in found.of_kind("extension"):
        levels[entry.level] += entry.names
    told = (php, sorted(levels["required"]), sorted(levels["recommended"]))
    assert told == (tree.get("php", ""), tree.get("required", []), tree.get("recommended", []))
    assert all(entry.places for entry in found.entries if entry.kind in ("php", "extension"))
