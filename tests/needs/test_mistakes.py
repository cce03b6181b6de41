"""What is said of mistakes in a needs file: the line, and what may have been meant."""

import tomllib
from pathlib import Path

import pytest

from fundamentum.errors import InputError
from fundamentum.needs.file import parse

HEAD = 'format = 1\n[application]\nname = "nightlog"\n'
MISTAKES = tomllib.loads(Path(__file__).with_name("typing.toml").read_text())["mistakes"]


@pytest.mark.parametrize("mistake", MISTAKES, ids=lambda one: one["text"].replace("\n", " "))
def test_a_mistake_is_told_with_its_line_and_what_may_be_meant(mistake: dict[str, str]) -> None:
    with pytest.raises(InputError) as caught:
        parse(HEAD + mistake["text"] + "\n", "n.toml")
    first = str(caught.value).split("\n")[0]
    assert first.startswith(f"n.toml:{int(mistake['line']) + 3}:"), first
    assert mistake["said"] in str(caught.value)


def test_most_of_them_name_what_is_right() -> None:
    naming = [mistake for mistake in MISTAKES if "did you mean" in mistake["said"] or "[" in mistake["said"]]
    assert len(MISTAKES) >= 60 and len(naming) >= 45


def test_all_mistakes_of_a_file_are_told_at_once() -> None:
    texts = [
        "[php]\nverson = '8+'",
        "[extensions]\nrequired = ['g/d', 'exec']",
        "[settings.required]\nmemory_limit = '2'",
    ]
    with pytest.raises(InputError) as caught:
        parse(HEAD + "\n".join(texts) + "\n", "n.toml")
    lines = str(caught.value).split("\n")
    assert [line.split(":")[1] for line in lines] == ["5", "7", "7", "9"]


UNDERSTOOD = [  # as somebody writes it, the needs that come of it
    (
        '[extensions]\nrequired = ["gd2", "php-intl", "ext-zip", "php_curl.dll", "mb_string"]',
        {"gd", "intl", "zip", "curl", "mbstring"},
    ),
    (
        '[extensions]\nrequired = ["imagick.so", "Zend OPcache", "pdo-mysql", "ssl"]',
        {"imagick", "opcache", "pdo_mysql", "openssl"},
    ),
]


@pytest.mark.parametrize(("text", "names"), UNDERSTOOD)
def test_other_names_of_extensions_are_understood(text: str, names: set[str]) -> None:
    assert {need.key.names[0] for need in parse(HEAD + text + "\n", "f").needs if need.key.kind == "extension"} == names


def test_a_note_that_is_too_long_is_named() -> None:
    text = f'{HEAD}[extensions]\nrequired = ["gd", "intl"]\n[notes]\n"extension:gd" = "{"x" * 401}"\n"extension:intl" = "y"\n'
    with pytest.raises(InputError, match=r"'notes\.extension:gd' is longer than 400 characters"):
        parse(text, "x.needs.toml")
