"""Which files of a tree are read."""

import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from fundamentum.derive.application import cache
from fundamentum.derive.application.listing import BESIDE, OTHER, SOURCE, Listing, unchanged
from fundamentum.derive.application.walk import MAX_SIZE, tree_of
from fundamentum.derive.derive import derive
from fundamentum.errors import InputError

from .trees import levels, made


def parts(root: Path) -> dict[str, str]:
    return {file.path: file.part for file in tree_of(Listing(str(root))).sources}


def test_the_parts_of_an_application(tmp_path: Path) -> None:
    names = {
        "index.php": "own", "src/A.php": "own", "inc/db.inc": "own", "view.phtml": "own", "plugins/x/a.php": "optional",
        "vendor/m/n/A.php": "bundled", "lib/chart/Chart.php": "bundled", "tests/a.php": "aside", "docs/a.php": "aside",
        "src/ATest.php": "aside", "vendor/m/n/tests/B.php": "aside", ".fixer.php": "aside",
    }  # fmt: skip
    made(
        tmp_path,
        {**dict.fromkeys(names, "echo 1;"), "lib/chart/composer.json": "{}", "a.js": "", "note.txt": "<?php x();"},
    )
    named_tests = {
        "src/ConfigurationTest.php": "class ConfigurationTest { static function check() { return true; } }",
        "src/BTest.php": "class BTest extends \\PHPUnit\\Framework\\TestCase {}",
        "install/test/server.php": "class ServerTest { function run() {} }",
        "plugins/diagnostics/a.php": "echo 1;",
    }
    made(tmp_path, named_tests)
    names |= dict(zip(named_tests, ("own", "aside", "own", "own"), strict=True))
    made(tmp_path, {"bin/run": "#!/usr/bin/env php\n<?php echo 1;", "bin/other": "#!/bin/sh\n"})
    assert parts(tmp_path) == names | {"bin/run": "own"}


def test_links_are_not_followed_and_odd_files_do_not_stop_it(tmp_path: Path) -> None:
    outside = made(tmp_path / "outside", {"a.php": "imagesx(1);"})
    root = made(tmp_path / "app", {"a.php": "echo 1;", "sub/b.php": "mb_strlen(1);"})
    (root / "out").symlink_to(outside)
    (root / "c.php").symlink_to(outside / "a.php")
    (root / "loop").symlink_to(root)
    os.mkfifo(root / "endless.php")
    (root / "huge.php").write_bytes(b"<?php " + b" " * MAX_SIZE)
    (root / "binary.php").write_bytes(bytes(range(256)) * 50)
    derived = derive(root)
    assert levels(derived) == {"mbstring": "required"}
    assert "3 links are not followed" in derived.remarks
    assert "huge.php is larger than 8 MiB: passed over" in derived.remarks


ABSURD = {  # each took minutes before something in it was bounded
    "parentheses.php": "<?php $x=" + "(" * 20_000 + "mb_strlen($y)" + ")" * 20_000 + ";",
    "ifs.php": "<?php " + "if ($a) {" * 3000 + "mb_strlen($y);" * 100 + "}" * 3000,
    "branches.php": "<?php if ($a) {}" + " elseif ($x && function_exists('imagesx')) { imagesx($y); }" * 1000,
    "blocks.php": "<?php " + "<<<A\n" * 50_000,
    "includes.php": "<?php PHP_VERSION;" + "include " * 50_000,
    "concatenated.php": "<?php exec(" + "'a' . " * 20_000 + "$x);",
    "quotes.php": "<?php " + "'" * 100_001,
}


def test_absurd_files_are_read_as_far_as_is_sensible(tmp_path: Path) -> None:
    derived = derive(made(tmp_path, ABSURD | {"a.php": "zip_open('x');"}))
    assert levels(derived)["zip"] == "required"
    assert any("cannot be parsed as a whole" in remark for remark in derived.remarks)


def test_a_tree_whose_application_lies_deeper(tmp_path: Path) -> None:
    made(tmp_path, {"usr/share/log/composer.json": '{"name": "x/log"}', "usr/share/log/a.php": "imagesx(1);",
                    "usr/share/log/vendor/m/n/A.php": "bcadd(1, 2);"})  # fmt: skip
    derived = derive(tmp_path)
    assert (derived.name, levels(derived)) == ("log", {"gd": "required"})


@pytest.mark.parametrize("files", [{}, {"readme.txt": "x"}])
def test_a_directory_without_php_is_an_error(tmp_path: Path, files: dict[str, str]) -> None:
    with pytest.raises(InputError, match="holds no PHP source and no manifest"):
        derive(made(tmp_path, files))


def test_an_unchanged_tree_is_remembered_and_a_changed_one_read_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    root = made(tmp_path / "app", {"a.php": "imagesx(1);"})
    tree = Listing(str(root))
    assert cache.recall(str(root)) is cache.recall_listed(tree) is None
    cache.remember(tree, cache.answer(derive(root), "text"))
    answer = cache.recall_listed(Listing(str(root)))
    assert answer and (answer.derived(), answer.text) == (derive(root), "text")
    assert cache.recall(str(root)) is None  # the directory is too new for its time to be relied on
    settled(root)
    cache.remember(Listing(str(root)), answer)
    assert cache.recall(str(root)) == answer._replace(packed=answer.pack())
    made(root, {"logo.png": ""})
    assert cache.recall(str(root)) is None
    assert cache.recall_listed(Listing(str(root))) == answer  # it does not count
    made(root, {"b.php": "mb_strlen(1);"})
    assert cache.recall(str(root)) is cache.recall_listed(Listing(str(root))) is None
    next((tmp_path / "cache/fundamentum").iterdir()).write_bytes(b"\x00broken")
    assert cache.recall(str(root)) is cache.recall_listed(tree) is None


def settled(root: Path) -> None:
    """Make every directory look as if it had not changed for long."""
    for directory in (root, *(path for path in root.rglob("*") if path.is_dir())):
        os.utime(directory, ns=(1, 10**18))


@pytest.mark.parametrize("change", [
    lambda root: (root / "a.php").write_text("<?php imagesy(1);"),
    lambda root: os.utime(root / "a.php", ns=(1, 1)),
    lambda root: (root / "sub/new.php").write_text("<?php"),
    lambda root: (root / "sub/b.php").unlink(),
    lambda root: (root / "sub/b.php").rename(root / "sub/c.php"),
    lambda root: (root / "empty/deep").mkdir(),
    lambda root: (root / "empty").rmdir(),
    lambda root: (root / "sub/link.php").symlink_to("b.php"),
    lambda root: shutil.move(root / "sub", root / "moved"),
])  # fmt: skip
def test_every_change_of_a_tree_is_noticed(tmp_path: Path, change: Callable[[Path], object]) -> None:
    root = made(tmp_path / "app", {"a.php": "imagesx(1);", "sub/b.php": "echo 1;"})
    (root / "empty").mkdir()
    settled(root)
    watched = Listing(str(root)).watched()
    assert watched
    assert unchanged(str(root), json.loads(json.dumps(watched)))
    change(root)
    assert not unchanged(str(root), watched)


def test_a_tree_that_changed_just_now_or_has_something_unreadable_is_not_watched(tmp_path: Path) -> None:
    root = made(tmp_path / "app", {"a.php": "imagesx(1);", "sub/b.php": "echo 1;"})
    assert Listing(str(root)).watched() is None
    settled(root)
    listing = Listing(str(root))
    assert listing.watched()
    listing.remarks.append("sub cannot be read")
    assert listing.watched() is None


def test_the_stamp_of_a_tree_changes_with_what_counts_and_only_with_that(tmp_path: Path) -> None:
    root = made(tmp_path / "app", {"a.php": "imagesx(1);", "sub/composer.json": "{}", "sub/b.php": "echo 1;"})
    seen = [Listing(str(root)).stamp]

    def changed() -> bool:
        stamp = Listing(str(root)).stamp
        new = stamp not in seen
        seen.append(stamp)
        return new

    made(root, {"logo.png": "", "sub/page.html": "", "sub/lang/de.po": ""})
    assert not changed()
    made(root, {"sub/.env.example": "DB_CONNECTION=mysql"})
    assert changed()
    os.utime(root / "a.php", ns=(1, 1))
    assert changed()
    made(root, {"sub/composer.json": '{"name": "x/y"}'})
    assert changed()
    made(root, {"LICENSE": "do what you like"})  # now it could be somebody else's work
    assert changed()
    (root / "sub/b.php").rename(root / "sub/c.php")
    assert changed()
    made(root, {"bin/run": "#!/usr/bin/php"})
    assert changed()
    (root / "sub/composer.json").unlink()
    assert changed()


@pytest.mark.parametrize(("name", "kind"), [("composer.json", OTHER), ("check.sh", BESIDE), ("php.ini-sample", OTHER), ("htaccess.txt", OTHER),
    (".htaccess", OTHER), ("a.PHP5", SOURCE), ("a.inc", SOURCE), ("run", SOURCE), ("a.json", BESIDE), (".env.example", BESIDE), ("docs.md", 0), ("install.md", OTHER), ("install.inc", SOURCE), ("05_setup.md", OTHER), ("style.css", BESIDE), ("LICENSE", 0), ("a.js", 0)])  # fmt: skip
def test_which_files_are_listed(tmp_path: Path, name: str, kind: int) -> None:
    (tmp_path / name).write_text("x")
    assert [file[1] for file in Listing(str(tmp_path)).top.files] == ([kind] if kind else [])
