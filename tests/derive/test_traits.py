"""Small trees, each one trait of real applications: the version of PHP, and the level of each extension."""

import tomllib
from pathlib import Path
from typing import Any

import pytest

from fundamentum.derive.derive import derive
from fundamentum.derive.needs_file import as_needs
from fundamentum.errors import InputError
from fundamentum.kinds.extensions import ExtensionNeed
from tests.small_root import write

OTHERS = ("command", "database", "directory", "function", "host", "task", "web_module")
TREES: list[dict[str, Any]] = tomllib.loads(Path(__file__).with_name("traits.toml").read_text("utf-8"))["tree"]


@pytest.mark.parametrize("tree", TREES, ids=[tree["trait"] for tree in TREES])
def test_a_trait(tree: dict[str, Any], tmp_path: Path) -> None:
    write(tmp_path, tree["files"])
    derived = derive(tmp_path)
    php = next((entry.value for entry in derived.entries if entry.kind == "php"), "")
    levels: dict[str, list[str]] = {"required": [], "recommended": [], "command_line": []}
    for entry in derived.of_kind("extension"):
        levels[entry.way or entry.level] += entry.names
    told = (php, sorted(levels["required"]), sorted(levels["recommended"]))
    assert levels["command_line"] == tree.get("command_line", [])
    told_settings = [f"{e.names[0]} {e.level} {e.value}" for e in derived.entries if e.kind in ("setting", "uploads")]
    assert "settings" not in tree or told_settings == tree["settings"]
    any_of = ["|".join(entry.names) for entry in derived.of_kind("extension") if entry.names[1:]]
    assert "any_of" not in tree or any_of == tree["any_of"]
    others = [" ".join((e.kind, *e.names, e.value)).strip() for e in derived.entries if e.kind in OTHERS]
    assert "others" not in tree or others == tree["others"]
    demanded = [
        f"{e.kind} {' '.join(e.names)}"
        for e in derived.entries
        if e.kind in ("command", "directory") and e.level == "required"
    ]
    assert "demanded" not in tree or demanded == tree["demanded"]
    beside = [f"{e.kind} {' '.join(e.names)}" for e in derived.entries if e.kind in ("loader", "service")]
    assert "beside" not in tree or beside == tree["beside"]
    beneath = [
        f"{e.names[0]} {e.level} {e.value}".strip()
        for e in derived.entries
        if e.kind in ("library", "feature", "build") or (e.kind == "extension" and e.value)
    ]
    assert "beneath" not in tree or beneath == tree["beneath"]
    assert [name for entry in derived.of_kind("absent") for name in entry.names] == tree.get("absent", [])
    assert "planted" not in repr(derived)
    assert {
        name for need in as_needs(derived).of(ExtensionNeed) if need.way == "command_line" for name in need.names
    } == set(levels["command_line"])
    assert told == (tree.get("php", ""), tree.get("required", []), tree.get("recommended", []))
    preferred = next((entry.value for entry in derived.entries if entry.names == ("preferred",)), "")
    assert preferred == tree.get("preferred", "")
    assert all(entry.places for entry in derived.entries if entry.kind in ("php", "extension"))


LIBRARIES = '{"name": "observatory/nightlog", "require": {"php": ">=8.1", "ext-gd": "*", "observatory/sky": "^1"}}'


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ({"composer.json": LIBRARIES}, True),
        ({"composer.json": LIBRARIES, "composer.lock": '{"packages": []}'}, False),
        ({"composer.json": LIBRARIES, "vendor/observatory/sky/a.php": "<?php"}, False),
        ({"composer.json": LIBRARIES.replace(', "observatory/sky": "^1"', "")}, False),
    ],
)
def test_libraries_that_are_not_there_are_told(files: dict[str, str | bytes], said: bool, tmp_path: Path) -> None:
    write(tmp_path, {"index.php": "<?php echo 1;", **files})
    remarks = [remark for remark in derive(tmp_path).remarks if "requires one library" in remark]
    assert len(remarks) == said


def test_of_several_applications_one_has_to_be_named(tmp_path: Path) -> None:
    for name in ("nightlog", "dome"):
        write(tmp_path, {f"{name}/composer.json": "{}", f"{name}/public/index.php": "<?php echo 1;"})
    with pytest.raises(InputError, match="holds several applications: dome, nightlog; name one of them"):
        derive(tmp_path)
    assert derive(tmp_path / "dome").name == "dome"


@pytest.mark.parametrize("tree", TREES[::3], ids=[tree["trait"] for tree in TREES[::3]])
def test_what_is_not_parsed_cannot_change_the_answer(tree: dict[str, Any], tmp_path: Path) -> None:
    write(tmp_path, tree["files"])
    # Enough files of another kind that most need not be parsed.
    write(
        tmp_path,
        {
            f"src/Draw{n}.php": f"<?php namespace A; function draw{n}() {{ \\xmlwriter_open_memory(); }}"
            for n in range(5)
        },
    )
    some, every = derive(tmp_path), derive(tmp_path, everything=True)
    assert [(e.key, e.level, e.value, e.way) for e in some.entries] == [
        (e.key, e.level, e.value, e.way) for e in every.entries
    ]
    assert some.parsed < every.parsed


@pytest.mark.parametrize(
    ("files", "several"),
    [
        ({"nightlog/index.php": "<?php require 'lib.php';", "nightlog/lib.php": "<?php", "vault/public/index.php": "<?php"}, True),
        ({"admin/index.php": "<?php", "nightlog/index.php": "<?php"}, False),
        ({"nightlog/index.php": "<?php require '../common.php';", "vault/index.php": "<?php"}, False),
        ({"nightlog/index.php": "<?php", "vault/index.php": "<?php", "sky/sky.php": "<?php"}, False),
        ({"nightlog/index.php": "<?php", "vault/index.php": "<?php", "start.php": "<?php"}, False),
        ({"nightlog/index.php": "<?php", "vault/index.php": "<?php", "composer.json": "{}"}, False),
        ({"nightlog/index.php": "<?php", "docs/index.php": "<?php"}, False),
    ],
)  # fmt: skip
def test_applications_side_by_side_without_manifests(
    tmp_path: Path, files: dict[str, str | bytes], several: bool
) -> None:
    write(tmp_path, files)
    if several:
        with pytest.raises(InputError, match="holds several applications: nightlog, vault"):
            derive(tmp_path)
    else:
        derive(tmp_path)
