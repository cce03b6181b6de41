"""PHP's ini dialect.  Every expected value was printed by the real ``parse_ini_string``; tests/real asks it again."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.server.ini import parse

CONSTANTS = {"E_ALL": "32767", "E_NOTICE": "8"}
BROKEN = None
CASES: list[tuple[str, dict[str, str] | None]] = [
    ("x=128M\n", {"x": "128M"}),
    ("x = On\n", {"x": "1"}),
    ("x=none ; c\n", {"x": ""}),
    ("x=null\n", {"x": ""}),
    ("x=ony\n", {"x": "ony"}),
    ("x=on y\n", BROKEN),
    ("on=1\n", BROKEN),
    ("x=''\ny=1\n", {"x": "", "y": "1"}),
    ("x=a'b\ny=1", {"x": "a"}),
    ('x="a" b "c"  \n', {"x": "abc"}),
    ("x=a=b\n", BROKEN),
    ("x=a{b}c\n", {"x": "a{b}c"}),
    ("{=1\n", BROKEN),
    ('x="a\\\\b\\n\\""\n', {"x": 'a\\b\\n"'}),
    ("x=1 | 2\n", {"x": "3"}),
    ("x=1|2&4\n", {"x": "0"}),
    ("x=!1\n", {"x": "0"}),
    ("x=~1\n", {"x": "-2"}),
    ("x=(1|2)&3\n", {"x": "3"}),
    ("x=E_ALL & ~E_NOTICE\n", {"x": "32759"}),
    ("x=  \ny=1", {"x": "", "y": "1"}),
    ("x y\n", {}),
    ("[a]x=1\n", {"x": "1"}),
    ("[a\n", BROKEN),
    ("#x=1\n", {"#x": "1"}),
    ("x=a#b ; c\n", {"x": "a#b"}),
    ("  x  =  a  b  ; c", {"x": "a  b"}),
    ("x=a  ", {"x": "a  "}),
    ('x="a\nb"\ny=1\n', {"x": "a\nb", "y": "1"}),
    ("\ufeffx=a", {"x": "a"}),
    ("x=${FOO}${FOO} b\n", {"x": "barbar b"}),
    ("x=0x1A\n", {"x": "0x1A"}),
    ('x=none""\n', BROKEN),
    ('x="on"\n', {"x": "on"}),
    ("x=no thing\n", BROKEN),
    ("x=E_ALL:1\n", {"x": "E_ALL:1"}),
    ("x=a!b\n", BROKEN),
    ('x="C:\\dir\\"\ny=1\n', {"x": "C:\\dir\\", "y": "1"}),
    ("x=a\\\nb\n", {"x": "a\\"}),
    ("x=offline\n", {"x": "offline"}),
    ("x=1|yes\n", BROKEN),
]


@pytest.mark.parametrize(("text", "expected"), CASES)
def test_values(text: str, expected: dict[str, str] | None) -> None:
    found = parse(text, CONSTANTS, {"FOO": "bar"}.get)
    if expected is BROKEN:
        assert found.broken_at is not None
    else:
        assert found.broken_at is None
        assert {entry.name: entry.value for entry in found.entries} == expected


def test_places_sections_and_keys() -> None:
    found = parse('; one\na = 1\n\n[www]\nphp_value[memory_limit] = 5M\n"\n', CONSTANTS)
    assert [(e.name, e.key, e.section, e.line) for e in found.entries] == [
        ("a", None, None, 2),
        ("php_value", "memory_limit", "www", 5),
    ]
    assert found.broken_at == 6, "PHP ignores what follows a syntax error, and keeps what came before"


def test_a_value_from_the_environment_is_not_known() -> None:
    assert parse("x = a${SECRET}b\ny = 1\n", CONSTANTS).entries[0].value is None


@given(st.text(alphabet=st.sampled_from("ax=\"'${}[];|&~!()\n\r \t\\.1Of\0"), max_size=60))
def test_any_text_gives_entries_or_a_place(text: str) -> None:
    found = parse(text, CONSTANTS)
    assert all(1 <= entry.line <= text.count("\n") + text.count("\r") + 1 for entry in found.entries)
