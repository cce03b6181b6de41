"""The quick look at a file: both ways of matching find the same, and words stand only where a symbol may be meant."""

import builtins
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.derive import words
from fundamentum.derive.derive import derive
from fundamentum.derive.patterns import Replaced, Several
from fundamentum.derive.quoted import drivers_in
from fundamentum.derive.syntax import RULES, Rules, prepared
from fundamentum.derive.words import code_of, extensions_of, interesting, words_in

from .constructs import CONSTRUCTS
from .trees import levels, made

PIECES = [code for _, _, code, _ in CONSTRUCTS.values()] + [
    "'", '"', "\\", "\\'", "//", "#", "#[A]", "/*", "*/", "?>", "<?php ", "<?= ", "<<<A\n", "\nA;\n", "\n", "{", "}", "(", ")",
    " x ", "function f($a, $b,) {", "[...$x]", "public int $x;", "caf\xe9",
]  # fmt: skip
FAST = ("hyperscan", "pcre2")


@pytest.fixture
def without_fast_matchers(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    real = builtins.__import__

    def refused(name: str, *rest: Any, **named: Any) -> Any:
        if name in FAST:
            raise ImportError(name)
        return real(name, *rest, **named)

    monkeypatch.setattr(builtins, "__import__", refused)
    monkeypatch.setattr("fundamentum.derive.derive.LARGE_TREE", 0)  # so that the fast one would be asked for
    words._without_text.cache_clear()
    yield
    words._without_text.cache_clear()


PATTERNS: Mapping[int, re.Pattern[bytes]] = {n: rule.pattern for n, rule in enumerate(RULES) if not rule.raw}


@given(st.lists(st.sampled_from(PIECES), max_size=14).map(" ".join))
def test_no_construct_is_lost_by_looking_for_all_at_once(code: str) -> None:
    pytest.importorskip("hyperscan", reason="there is no build of it for this machine")
    text = code.lower().encode("latin-1")
    several = _several()
    assert {n for n, one in PATTERNS.items() if one.search(text)} <= set(several.may_occur(text, lambda _: True))


def _several(kept: list[Several] = []) -> Several:  # noqa: B006 — prepared once
    if not kept:
        kept.append(prepared(much=True))
        kept[0].ready()
    return kept[0]


@given(st.lists(st.sampled_from(PIECES), max_size=20).map("".join))
def test_code_is_told_from_text_the_same_with_either_matcher(code: str) -> None:
    pytest.importorskip("pcre2", reason="there is no build of it for this machine")
    data = b"<?php " + code.encode("latin-1")
    fast = code_of(data)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Replaced, "__call__", lambda self, text: self._pattern.sub(self._by, text))
        assert code_of(data) == fast


def test_what_is_too_hard_for_the_fast_matcher_is_left_to_the_other() -> None:
    pytest.importorskip("pcre2", reason="there is no build of it for this machine")
    nested = Replaced(re.compile(rb"(?:a(?:b|c)*)*d"), b"")
    text = b"abc" * 60_000 + b"d"
    with pytest.raises(nested._too_hard):
        nested._machine_code.sub(b"", text)
    assert nested(text) == b""


def test_an_application_is_derived_without_the_fast_matchers_too(tmp_path: Path, without_fast_matchers: None) -> None:
    made(tmp_path, {"a.php": "/* gzopen() */ enum A { case B; } mb_strlen($x);", "b.php": "echo 'imagesx()';"})
    found = derive(tmp_path)
    assert words._without_text()._machine_code is None
    assert levels(found) == {"mbstring": "required"}
    assert [entry.value for entry in found.of_kind("php")] == [">=8.1"]


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
    assert words_in(code_of(f"<?php {code}".encode())[0], interesting()) == meant


def test_words_speak_only_of_the_extensions_that_they_name() -> None:
    assert extensions_of(frozenset({b"pdo"})) == {"pdo"}
    assert extensions_of(frozenset({b"pdo", b"mysql_attr_init_command"})) == {"pdo", "pdo_mysql"}
    assert extensions_of(frozenset({b"http"})) == set()
    assert drivers_in(b"new pdo('pgsql:host=x'); 'sqlite'", connects=False) == {"pdo_pgsql"}
    assert drivers_in(b"new pdo($dsn); $kinds = ['sqlite', 'pdo_oci'];", connects=True) == {"pdo_sqlite", "pdo_oci"}


def test_only_the_rules_that_count_are_looked_for() -> None:
    code, _ = code_of(b"<?php enum A {} function f() { return $x ?? fn() => 1; }")
    found_words = frozenset(code.split())
    of = {number for number, rule in enumerate(RULES) if rule.since == "8.1"}
    found = Rules(of, prepared(much=True)).ready().among(code, found_words, False)
    assert {RULES[number].what for number in found} == {"an enumeration"}
