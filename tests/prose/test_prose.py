"""Requirements in prose: what is understood of a sentence, and of whole pages."""

import tomllib
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fundamentum.errors import InputError
from fundamentum.prose.lines import lines_of
from fundamentum.prose.readers import understood
from fundamentum.prose.requirements import requirements

HERE = Path(__file__).parent
COMPLAINTS: dict[str, list[str]] = tomllib.loads((HERE / "complaints.toml").read_text())["complaints"]


@pytest.mark.parametrize("sentence", COMPLAINTS)
def test_a_sentence_is_understood(sentence: str) -> None:
    lines = lines_of(sentence.encode())
    found = [
        ".".join(statement.table)
        + (f" {statement.key} = {statement.value}" if statement.key else f" {statement.value}")
        for line in lines
        for statement in understood(line)
    ]
    assert list(dict.fromkeys(found)) == COMPLAINTS[sentence]


def test_all_sentences_become_a_needs_file() -> None:
    found = requirements("\n\n".join(COMPLAINTS).encode(), "all.txt")  # held as a whole: see tests/whole_results.py
    assert tomllib.loads(found.text)["extensions"]["required"]


def test_a_page_becomes_a_needs_file() -> None:
    found = requirements((HERE / "page.md").read_bytes(), "page.md")
    document = tomllib.loads(found.text)
    assert document["php"] == {"version": ">=8.1, <=8.3", "bits": 64}
    assert set(document["extensions"]["required"]) == set(
        "ctype curl dom fileinfo gd intl json mbstring openssl pdo_mysql simplexml xml zip".split()
    )
    assert document["extensions"]["recommended"] == ["apcu", "redis"]
    assert document["database"]["required"] == ["mariadb >= 10.6 | mysql >= 8.0"]
    assert document["web"] == {"modules": ["rewrite"], "server": "apache | nginx"}
    assert document["settings"]["required"]["memory_limit"] == ">= 256M"
    assert document["settings"]["required"]["post_max_size"] == ">= 64M"
    assert document["settings"]["required"]["upload_max_filesize"] == ">= 64M"
    assert document["host"]["required"] == {"memory": ">= 512M", "disk": ">= 2G"}
    assert document["services"]["recommended"] == ["redis >= 6"]
    assert document["commands"]["recommended"] == ["convert"]
    assert document["tasks"]["required"] == {"bin/collect.php": "every 15m"}
    assert found.needs.notes["extension:gd"].startswith("PHP extensions: ctype, curl")
    assert [line.text for line in found.rest] == ["The observation log of a small observatory."]


def test_an_installers_page_is_read_without_what_nobody_sees() -> None:
    document = tomllib.loads(requirements((HERE / "page.html").read_bytes(), "page.html").text)
    assert document["php"] == {"version": ">=8.0"}
    assert document["extensions"] == {"required": ["exif", "imagick | gd"], "recommended": ["soap"]}
    assert document["settings"]["required"] == {"upload_max_filesize": ">= 200M"}
    assert set(document["directories"]["required"]) == {"var/plates", "var/cache"}


def test_a_text_of_which_nothing_is_understood_is_refused() -> None:
    with pytest.raises(InputError, match="nothing in it is understood"):
        requirements(b"The dome opens at dusk.\n", "dome.txt")


@settings(max_examples=60, deadline=None)
@given(st.lists(st.sampled_from([*COMPLAINTS, "x", "", "- ", "# Optional", "<li>", "\x1b[31m", "é" * 700]), max_size=6))
def test_any_text_is_read_or_refused_in_one_line(sentences: list[str]) -> None:
    try:
        found = requirements("\n".join(sentences).encode(), "f.txt")
    except InputError as error:
        assert "\n" not in str(error)
    else:
        assert all(text.isprintable() for text in found.needs.notes.values())
