"""Which PHP an application runs on."""

from pathlib import Path

import pytest

from fundamentum.derive.derive import derive
from fundamentum.derive.result import Derived
from tests.tables import CONSTRUCTS

from .trees import levels, made, told


def php(derived: Derived) -> str:
    return next((entry.value for entry in derived.of_kind("php")), "")


@pytest.mark.parametrize(("name", "row"), CONSTRUCTS.items(), ids=list(CONSTRUCTS))
def test_a_construct_bounds_the_version(tmp_path: Path, name: str, row: tuple[str, str, str, bool]) -> None:
    since, gone, code, _ = row
    found = php(told(tmp_path, {"a.php": code}))
    assert found == (f">={since}" if since else f"<{gone}"), name


QUIET = [  # code that looks newer or older than it is
    "// $a?->b; match(1) { }; enum A {}",
    "$x = 'readonly class A {} $a?->b ?? 1';",
    "$o->match(1); $o->enum; $o->fn(1); $o->each($x);",
    "class A { function match() {} function each() {} const ENUM = 1; }",
    "$x = $a ? b : c; f($x ? 1 : 2); switch ($x) { case A: default: }",
    "$x = A | B; if ($a | $b) {} f($x | Y);",
    "namespace A{ $x = 1; } try{ $y = 2; } finally{ $z = 3; }",
    "$p14_1 = utf8_2(); const A_1 = 2;",
    "$readonly = 1; $never = 2; $match = 3;",
    "$a = array('x', 'y',);",
    "if (function_exists('str_contains')) { str_contains('a', 'b'); }",
    "if (PHP_VERSION_ID >= 80000) { str_contains('a', 'b'); }",
    "function str_contains($a, $b) { return strpos($a, $b) !== false; } str_contains(1, 2);",
    "if (!function_exists('each')) { function each(&$x) {} } each($y);",
]


@pytest.mark.parametrize("code", QUIET)
def test_what_only_looks_like_a_construct_bounds_nothing(tmp_path: Path, code: str) -> None:
    assert php(told(tmp_path, {"a.php": code})) == ""


def test_the_manifest_s_own_statement_wins_and_disagreement_is_said(tmp_path: Path) -> None:
    files = {"composer.json": '{"require": {"php": ">=7.4 <8.1"}}', "a.php": "$x = $a?->b;\n each($a);"}
    derived = told(tmp_path, files)
    assert php(derived) == ">=7.4, <8.1"
    assert derived.remarks == ("the manifest accepts PHP 7.4, but a.php:1 uses the nullsafe operator, which needs 8.0",)
    (tmp_path / "a.php").write_text("<?php\n each($a);")
    assert derive(tmp_path).remarks == (
        "a.php:2 uses each(), which is gone with PHP 8.0, though the manifest accepts it",
    )


@pytest.mark.parametrize(
    ("path", "code", "counts", "remark"),
    [
        ("index.php", "if (PHP_VERSION_ID < 80200) { die('8.2'); }", ">=8.2", "says that it needs 8.2: that counts"),
        (
            "index.php",
            "if (PHP_VERSION_ID >= 80400) { die('not yet'); }",
            ">=8.1, <8.4",
            "though the manifest accepts it: that counts",
        ),
        ("index.php", "if (PHP_VERSION_ID < 80200) { echo 'old'; }", ">=8.1", ""),
        ("bin/tool.php", "if (PHP_VERSION_ID < 80200) { die('8.2'); }", ">=8.1", "says that it needs 8.2"),
        ("a/b/c/d.php", "if (PHP_VERSION_ID < 80200) { die('8.2'); }", ">=8.1", "says that it needs 8.2"),
        ("export.php", "if (PHP_VERSION_ID < 80200) { die('8.2'); }", ">=8.1", "says that it needs 8.2"),
        (
            "index.php",
            "if ($config['x']) { if (PHP_VERSION_ID < 80200) { die('8.2'); } }",
            ">=8.1",
            "that it needs 8.2",
        ),
        ("a.php", "function at_least() { if (PHP_VERSION_ID < 80200) { die(); } } at_least();", ">=8.1", "needs 8.2"),
        (
            "index.php",
            "if (PHP_VERSION_ID >= 70000) { die('old'); }",
            ">=8.1",
            "from PHP 7.0 on, though the manifest accepts it",
        ),
    ],
)
def test_where_a_visitor_meets_the_end_that_counts_against_a_manifest(
    tmp_path: Path, path: str, code: str, counts: str, remark: str
) -> None:
    derived = told(tmp_path, {"composer.json": '{"require": {"php": ">=8.1"}}', "index.php": "echo 1;", path: code})
    assert php(derived) == counts
    assert "".join(derived.remarks).endswith(remark) and bool(derived.remarks) == bool(remark)


COUNTING = {  # more files with what the oldest PHP that the manifest accepts cannot read, and whether that counts
    "in one file that hardly anything reaches": ({"b.php": "Tool::run();"}, False),
    "in more than one file": ({"b.php": "$x = $b?->c;"}, True),
    "in a class that the whole program calls": ({"b.php": "Tool::run();" * 13}, True),
    "in a file that is included under some versions": (
        {"b.php": "if (PHP_VERSION_ID >= 80000) require 'Tool.php';"},
        False,
    ),
}


@pytest.mark.parametrize(("others", "counts"), COUNTING.values(), ids=list(COUNTING))
def test_what_php_cannot_read_counts_against_the_manifest(tmp_path: Path, others: dict[str, str], counts: bool) -> None:
    tool = "class Tool { static function run() { return self::of()?->name; } }"
    derived = told(tmp_path, {"composer.json": '{"require": {"php": ">=7.4 <8.1"}}', "Tool.php": tool, **others})
    assert php(derived) == (">=8.0, <8.1" if counts else ">=7.4, <8.1")
    assert any(remark.endswith(": that counts") for remark in derived.remarks) == counts


def test_files_for_some_versions_only_and_libraries_do_not_count(tmp_path: Path) -> None:
    derived = told(
        tmp_path,
        {
            "a.php": "if (PHP_VERSION_ID >= 80000) { require 'new.php'; } $x = $a ?? 1;",
            "new.php": "$x = $a?->b;",
            "vendor/maker/thing/Instance.php": "enum Instance {}",
            "tests/ATest.php": "enum Instance {}",
        },
    )
    assert php(derived) == ">=7.0"


def test_libraries_narrow_what_is_accepted(tmp_path: Path) -> None:
    installed = '{"packages": [{"name": "maker/thing", "require": {"php": "^8.1"}}, {"name": "dev/tool", "require": {"php": "^8.3"}}], "dev-package-names": ["dev/tool"]}'
    files = {
        "composer.json": '{"require": {"php": ">=7.4"}}',
        "vendor/composer/installed.json": installed,
        "a.php": "echo 1;",
    }
    assert php(told(tmp_path, files)) == ">=8.1, <9"
    assert php(derive(made(tmp_path, {"composer.json": "{}"}))) == ">=8.1, <9"


def test_offsets_in_braces_do_not_hide_what_stands_around(tmp_path: Path) -> None:
    """The parser does not know them: what it made of the rest of such a file had lost the checks there."""
    code = (
        "class J { var $mb; function __construct() { $this->mb = function_exists('mb_strlen'); }\n"
        "function f($s) { for ($c = 0; $c < 9; ++$c) { if (ord($s{$c}) == 1) return $this->x[$c]{1}; } return $s{0}; }\n"
        "function l($s) { if ($this->mb) { return mb_strlen($s); } return strlen($s); } }"
    )
    derived = told(tmp_path, {"J.php": code, "index.php": "$j = new J; echo $j->l('x');"})
    assert php(derived) == "<8.0" and levels(derived) == {"mbstring": "recommended"}
    assert not derived.remarks
