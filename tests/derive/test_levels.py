"""How strongly an extension is needed, from small applications: one row, one rule."""

from pathlib import Path

import pytest

from .trees import levels, told

USE = "function f() { imagesx($i); }"
REQUIRED, RECOMMENDED = "required", "recommended"
TREES: list[tuple[str, dict[str, str], dict[str, str]]] = [
    ("a plain use", {"a.php": USE}, {"gd": REQUIRED}),
    ("behind a check", {"a.php": "if (extension_loaded('gd')) { imagesx($i); }"}, {"gd": RECOMMENDED}),
    (
        "a check in another file, by name",
        {"a.php": "if (Can::draw()) { imagesx($i); }", "b.php": "class Can { static function draw() { return extension_loaded('gd'); } }"},
        {"gd": RECOMMENDED},
    ),
    (
        "a check in a constant",
        {"a.php": "if (HAS_GD) { imagesx($i); }", "b.php": "define('HAS_GD', function_exists('imagesx'));"},
        {"gd": RECOMMENDED},
    ),
    ("the program stops", {"a.php": "if (!extension_loaded('gd')) die('no');"}, {"gd": REQUIRED}),
    (
        "the program stops without any one of them",
        {"a.php": "if (!extension_loaded('mysqli') && !extension_loaded('pgsql')) die('no');"},
        {"mysqli|pgsql": REQUIRED},
    ),
    ("asked for only", {"a.php": "$has = extension_loaded('gd');"}, {"gd": RECOMMENDED}),
    ("a tool for developers is asked for", {"a.php": "$has = extension_loaded('xdebug');"}, {}),
    ("listed by the installer", {"a.php": "$required_extensions = ['gd', 'zip', 'xml'];"}, {"gd": REQUIRED, "xml": REQUIRED, "zip": REQUIRED}),
    ("tests and examples", {"a.php": "echo 1;", "tests/a.php": USE, "examples/b.php": USE, "src/FooTest.php": USE}, {}),
    ("a plugin", {"a.php": "echo 1;", "plugins/draw/a.php": USE}, {"gd": RECOMMENDED}),
    (
        "a driver among others",
        {"Cache/RedisStore.php": "class RedisStore { function g() { new Redis(); } }", "Cache/FileStore.php": "class FileStore {}",
         "Cache/ArrayStore.php": "class ArrayStore {}"},
        {"redis": RECOMMENDED},
    ),
    (
        "what the application is about",
        {"Ldap/Connection.php": "class Connection { function g() { ldap_connect(); } }"},
        {"ldap": REQUIRED},
    ),
    (
        "a replacement of its own",
        {"a.php": "mb_strlen($x);", "b.php": "if (!function_exists('mb_strlen')) { function mb_strlen($x) { return strlen($x); } }"},
        {"mbstring": RECOMMENDED},
    ),
    ("a function of its own namespace", {"a.php": "namespace A; function mb_strlen($x) {} mb_strlen(1);"}, {}),
    ("a constant of its own", {"a.php": "define('FTP_ASCII', 1); echo FTP_ASCII;"}, {"ftp": RECOMMENDED}),
    ("images, either way", {"a.php": "if (class_exists('Imagick')) { new Imagick; } elseif (function_exists('imagesx')) { imagesx(1); }"},
     {"gd|imagick": RECOMMENDED}),
    ("databases by configuration", {"a.php": "switch ($k) { case 'pgsql': return new PDO('pgsql:host=x'); default: return new PDO('mysql:host=x'); }"},
     {"pdo_mysql|pdo_pgsql": REQUIRED}),
    ("the only database", {"a.php": "$db = new mysqli('x');"}, {"mysqli": REQUIRED}),
    ("PDO by a name of a driver", {"a.php": "$kinds = ['mysql', 'sqlite']; new PDO($dsn);"}, {"pdo_mysql|pdo_sqlite": REQUIRED}),
    (
        "a library that is called",
        {"a.php": "new Chart();", "lib/chart/LICENSE": "free", "lib/chart/Chart.php": "class Chart { function g() { bcadd(1, 2); } }"},
        {"bcmath": RECOMMENDED},
    ),
    (
        "a library that nothing calls",
        {"a.php": "echo 1;", "lib/chart/LICENSE": "free", "lib/chart/Chart.php": "class Chart { function g() { bcadd(1, 2); } }"},
        {},
    ),
    ("gone from PHP", {"a.php": "mysql_connect('x'); recode(1, 2);"}, {}),
    ("only on Windows", {"a.php": "new COM('x');"}, {}),
    ("part of every PHP", {"a.php": "preg_match('/x/', $y); spl_autoload_register(); json_encode(1); new DateTime; match(1) { 1 => 2 };"}, {}),
    ("json in an old PHP", {"a.php": "json_encode_x(); json_decode('1'); echo JSON_PRETTY_PRINT;"}, {}),
    (
        "an encoded add-on",
        {"a.php": "echo 1;", "addons/m.php": "<?php if (!extension_loaded('Orrery Loader')) die; exit; ?>\n" + ("QUJD" * 19 + "\n") * 40},
        {"Orrery Loader": RECOMMENDED},
    ),
    (
        "an encoded application",
        {"a.php": "<?php if (!extension_loaded('Orrery Loader')) die; exit; ?>\n" + ("QUJD" * 19 + "\n") * 40},
        {"Orrery Loader": REQUIRED},
    ),
]  # fmt: skip


@pytest.mark.parametrize(("files", "expected"), [row[1:] for row in TREES], ids=[row[0] for row in TREES])
def test_the_level_of_an_extension(tmp_path: Path, files: dict[str, str], expected: dict[str, str]) -> None:
    assert levels(told(tmp_path, files)) == expected


def test_every_entry_has_a_rule_and_a_place_and_what_is_left_out_says_why(tmp_path: Path) -> None:
    derived = told(tmp_path, {"a.php": USE + " mysql_connect('x');", "b.php": "new PDO('sqlite::memory:');"})
    for entry in (*derived.entries, *derived.left_out):
        assert entry.rule
        assert entry.places
    assert {entry.names[0]: entry.rule for entry in derived.left_out}["mysql"].startswith("gone from PHP since 7.0")


def test_mentions_alone_are_no_need(tmp_path: Path) -> None:
    assert levels(told(tmp_path, {"a.php": "function f(\\GMP $x) { return $x instanceof \\Imagick; }"})) == {}


@pytest.mark.parametrize(("asking", "plain", "level"), [(3, 9, REQUIRED), (9, 3, RECOMMENDED), (4, 4, RECOMMENDED)])
def test_uses_with_and_without_a_check_are_weighed(tmp_path: Path, asking: int, plain: int, level: str) -> None:
    files = {f"ask{n}.php": f"if (function_exists('imagesx')) {{ imagesx($i); }} // {'.' * n}" for n in range(asking)}
    files |= {f"use{n}.php": f"imagesx($i); // {'.' * n}" for n in range(plain)}
    assert levels(told(tmp_path, files)) == {"gd": level}


def test_files_that_cannot_change_the_answer_are_not_parsed(tmp_path: Path) -> None:
    derived = told(tmp_path, {f"use{n}.php": f"imagesx($i); // {'.' * n}" for n in range(9)})
    assert levels(derived) == {"gd": REQUIRED}
    assert derived.parsed < 4
