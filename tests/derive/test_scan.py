"""The quick look at a file: words stand only where a symbol may be meant."""

import time

import pytest

from fundamentum.derive.php_source import nodes
from fundamentum.derive.php_source.bare_code import all_words, code_of
from fundamentum.derive.php_source.quoted import drivers_in
from fundamentum.derive.php_source.syntax import RULES, Rules
from fundamentum.derive.reading.words import extensions_of, interesting, words_in
from tests.tables import CONSTRUCTS

PIECES = [code for _, _, code, _ in CONSTRUCTS.values()] + [
    "'", '"', "\\", "\\'", "//", "#", "#[A]", "/*", "*/", "?>", "<?php ", "<?= ", "<<<A\n", "\nA;\n", "\n", "{", "}", "(", ")",
    " x ", "function f($a, $b,) {", "[...$x]", "public int $x;", "caf\xe9",
]  # fmt: skip
STANDING = [  # PHP, interesting words in it
    ("key(1); $key; $x->key(2); A::key(3); function key() {}", set()),
    ("date(1); gzopen(1);", {b"gzopen"}),
    ("function gzopen($x) {}", set()),
    ("if (!function_exists('gzopen')) { function gzopen($x) {} }", {b"gzopen", b"function_exists"}),
    ("preg_split('/x/', $y);", set()),
    ("split('x', $y);", {b"split"}),
    ("$locale = 1; $x->locale; 'locale';", set()),
    ("locale::getDefault();", {b"locale"}),
    ("new \\ Locale; use Locale;", {b"locale"}),
    ("$locale::x();", set()),
    ("use Other\\Http\\Client;", set()),
    ("new http\\Client;", {b"http", b"http\\client"}),
    ("new \\http\\Client;", {b"http", b"http\\client"}),
    ("$x = <<<A\n'\nA;\ngzopen(1); $y = 'it';", {b"gzopen"}),
    ("$x = <<<A\ngzopen(1);\nA;\n", set()),
    ("?> <?XML gzopen(1); ?> <?php imagesx(1);", {b"imagesx"}),
]


@pytest.mark.parametrize(("code", "meant"), STANDING)
def test_a_word_of_everyday_language_counts_where_a_symbol_may_be_meant(code: str, meant: set[bytes]) -> None:
    read = code_of(f"<?php {code}".encode())[0]
    assert words_in(read, all_words(read), interesting()) == meant


def test_words_speak_only_of_the_extensions_that_they_name() -> None:
    assert extensions_of(frozenset({b"pdo"})) == {"pdo"}
    assert extensions_of(frozenset({b"pdo", b"mysql_attr_init_command"})) == {"pdo", "pdo_mysql"}
    assert extensions_of(frozenset({b"http"})) == set()
    assert drivers_in(b"new pdo('pgsql:host=x'); 'sqlite'", connects=False) == {"pdo_pgsql"}
    assert drivers_in(b"new pdo($dsn); $kinds = ['sqlite', 'pdo_oci'];", connects=True) == {"pdo_sqlite", "pdo_oci"}


def test_only_the_rules_that_count_are_looked_for() -> None:
    data = b"<?php enum A {} function f() { return $x ?? fn() => 1; }"
    code, _ = code_of(data)
    found_words = frozenset(code.split())
    of = {number for number, rule in enumerate(RULES) if rule.since == "8.1"}
    found = Rules(of).among(code, found_words, data, False)
    assert {RULES[number].what for number in found} == {"an enumeration"}


def test_the_parser_itself_is_stopped_where_something_is_no_code(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(nodes, "PARSING", 0.2)
    started = time.monotonic()
    with pytest.raises(RecursionError):
        nodes.parsed(b"<?php " + b"$a = PHP_MAJOR_VERSION * 10 " * 60_000)
    assert time.monotonic() - started < 3
    assert nodes.parsed(b"<?php f();").type == "program"
