"""PHP's ini dialect.  Every expected value was printed by the real ``parse_ini_string``; tests/real asks it again."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.php_files.ini import parse
from tests.tables import INI, INI_CONSTANTS


@pytest.mark.parametrize(("text", "expected"), INI)
def test_values(text: str, expected: dict[str, str] | None) -> None:
    file = parse(text, INI_CONSTANTS, {"FOO": "bar"}.get)
    if expected is None:
        assert file.broken_at is not None
    else:
        assert file.broken_at is None
        assert {entry.name: entry.value for entry in file.entries} == expected


def test_places_sections_and_keys() -> None:
    file = parse('; one\na = 1\n\n[www]\nphp_value[memory_limit] = 5M\n"\n', INI_CONSTANTS)
    assert [(e.name, e.key, e.section, e.line) for e in file.entries] == [
        ("a", None, None, 2),
        ("php_value", "memory_limit", "www", 5),
    ]
    assert file.broken_at == 6, "PHP ignores what follows a syntax error, and keeps what came before"


def test_a_value_from_the_environment_is_not_known() -> None:
    assert parse("x = a${SECRET}b\ny = 1\n", INI_CONSTANTS).entries[0].value is None


@given(st.text(alphabet=st.sampled_from("ax=\"'${}[];|&~!()\n\r \t\\.1Of\0"), max_size=60))
def test_any_text_gives_entries_or_a_place(text: str) -> None:
    file = parse(text, INI_CONSTANTS)
    assert all(1 <= entry.line <= text.count("\n") + text.count("\r") + 1 for entry in file.entries)


WORDS = st.sampled_from(
    ["a", "b.c", "on", "Off", "none", "E_ALL", "1", "-1", "128M", "/usr/x", "b:c", "", "no x", "[s 1]", "e=f"]
)
LINES = st.lists(
    st.tuples(WORDS, st.sampled_from(["=", " = ", "\t=", "", ";"]), WORDS, st.sampled_from(["", " ", " ;x"]))
)


@given(LINES)
def test_lines_of_one_plain_word_which_are_read_at_once_mean_the_same(lines: list[tuple[str, str, str, str]]) -> None:
    """Lines that end as on Windows are read character by character."""
    written = ["".join(line) for line in lines]
    assert parse("\n".join(["", *written, ""]), INI_CONSTANTS) == parse("\r\n".join(["", *written, ""]), INI_CONSTANTS)


@pytest.mark.parametrize(
    ("written", "value"),
    [("E_ALL", "32767"), ("E_ALL & ~E_NOTICE", "32759"), ("PHP_VERSION", None), ("PHP_OS_FAMILY", None), ("M_PI", None),
     ("PATH_SEPARATOR", None), ("'PHP_VERSION'", "PHP_VERSION"), ("OTHER_NAME", "OTHER_NAME")],
)  # fmt: skip
def test_constants_that_are_not_known_from_here(written: str, value: str | None) -> None:
    (entry,) = parse(f"a = {written}\n", {"E_ALL": "32767", "E_NOTICE": "8"}).entries
    assert entry.value == value
