"""Needs files: what is accepted, and one clear line for what is not."""

import json
import tomllib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from fundamentum.errors import InputError
from fundamentum.kinds.settings.setting_verdict import SettingNeed
from fundamentum.model.conditions import condition
from fundamentum.model.constraints import version_range
from fundamentum.needs.file import load, parse
from fundamentum.needs.toml_document import document

HEAD = 'format = 1\n[application]\nname = "nightlog"\n'
SCHEMA = Draft202012Validator(
    json.loads((Path(__file__).parents[2] / "src/fundamentum/schemas/needs.schema.json").read_text())
)

ERRORS = [  # text, line, words of the message, whether the schema sees it too
    ("x", 1, "not TOML", None),
    ('format = 2\n[application]\nname = "a"\n', 1, "format 2", True),
    ("format = 1\n", 1, "'application' is missing", True),
    (HEAD + "colour = 1\n", 4, "unknown key 'colour' in [application]", True),
    (HEAD + "[frob]\n", 4, "unknown key 'frob'", True),
    (HEAD + '[php]\nverson = ">=8.1"\n', 5, "did you mean 'version'?", True),
    (HEAD + "[php]\nversion = 8\n", 5, "must be text in quotes", True),
    (HEAD + '[php]\nversion = ">=8.1, <8.0"\n', 5, "no PHP version can satisfy", False),
    (HEAD + '[php]\nversion = ">=8.1 .. <8.5"\n', 5, "is no version comparison", False),
    (HEAD + '[php]\nversion = ">=8.1"\npreferred = "7.4"\n', 6, "contradicts", False),
    (HEAD + '[php]\nversion = "<8.1"\npreferred = "8.1+"\n', 6, "contradicts", False),
    (HEAD + '[extensions]\nrequired = "gd"\n', 5, "must be a list", True),
    (HEAD + '[extensions]\nrequired = ["gd",\n  "g/d"]\n', 6, "no extension name", False),
    (HEAD + '[extensions]\nrequired = ["gd"]\nrecommended = [\n "gd"]\n', 7, "listed twice", False),
    (HEAD + "[settings.required]\nmemory_limit = [256]\n", 5, "must be text in quotes", True),
    (HEAD + '[settings.required]\nmemory_limit = ">= 200MB"\n', 5, "no number PHP understands", False),
    (HEAD + '[settings.required]\nmemory_limit = ">= 20M, <= 10M"\n', 5, "can never hold", False),
    (
        HEAD + '[settings.required]\nmemory_limit = ">= 20M"\n[settings.recommended]\nmemory_limit = "<= 10M"\n',
        7,
        "contradicts '>= 20M'",
        False,
    ),
    (HEAD + '[settings.required]\nfoo = "= a\\nb"\n', 5, "one line", False),
    (HEAD + '[notes]\n"extension:gd" = "x"\n', 5, "belongs to no need", False),
    ('format = 1\n[application]\nname = "../up"\n', 3, "may hold letters", True),
]


@pytest.mark.parametrize(("text", "line", "words", "in_schema"), ERRORS)
def test_errors_name_file_and_line(text: str, line: int, words: str, in_schema: bool | None) -> None:
    with pytest.raises(InputError) as caught:
        parse(text, "night.needs.toml")
    assert str(caught.value).startswith(f"night.needs.toml:{line}:")
    assert words in str(caught.value)
    assert "\n" not in str(caught.value)
    if in_schema is not None:
        assert SCHEMA.is_valid(tomllib.loads(text)) is not in_schema


def test_the_shipped_files_fit_the_schema_and_load() -> None:
    for path in (Path(__file__).parents[2] / "src/fundamentum/demo/data").glob("*.needs.toml"):
        SCHEMA.validate(tomllib.loads(path.read_text()))
        assert load(path).name == path.name.partition(".")[0]


def test_dotted_names_need_no_quotes() -> None:
    needs = parse(HEAD + '[settings.required]\nsession.auto_start = "off"\n"session.use_cookies" = "on"\n', "f")
    assert [need.name for need in needs.of(SettingNeed)] == ["session.auto_start", "session.use_cookies"]


@pytest.mark.parametrize(
    ("accepted", "version", "fits"),
    [
        (">=8.1, <8.5", "8.4.9", True),
        (">=8.1, <8.5", "8.5.0", False),
        ("<=8.4", "8.4.7", True),
        (">8.1", "8.1.20", False),
        (">8.1", "8.2.0", True),
        ("=8.2", "8.2.30", True),
        ("!=8.2", "8.2.30", False),
        (">=8.1.5", "8.1.4", False),
        (">=8.1.5", "8.1.10", True),
        (">=7", "7.4.33-1+deb11u5", True),
    ],
)
def test_versions_compare_as_far_as_they_are_written(accepted: str, version: str, fits: bool) -> None:
    assert version_range(accepted).accepts(version) is fits


@pytest.mark.parametrize(
    ("accepted", "branch", "fits"),
    [
        (">=8.1.5", "8.1", True),
        (">8.1", "8.1", False),
        ("<8.2", "8.2", False),
        ("<8.2.5", "8.2", True),
        ("=8.3.1", "8.3", True),
    ],
)
def test_branches(accepted: str, branch: str, fits: bool) -> None:
    assert version_range(accepted).accepts_branch(branch) is fits


@given(
    st.lists(
        st.tuples(st.sampled_from([">=", ">", "<=", "<", "=", "!="]), st.integers(7, 9), st.integers(0, 3)),
        min_size=1,
        max_size=3,
    ),
    st.integers(7, 9),
    st.integers(0, 3),
    st.integers(0, 20),
)
def test_a_range_that_accepts_something_is_not_called_contradictory(
    comparisons: list[tuple[str, int, int]], major: int, minor: int, patch: int
) -> None:
    found = version_range(", ".join(f"{operator}{a}.{b}" for operator, a, b in comparisons))
    if found.accepts(f"{major}.{minor}.{patch}"):
        assert not found.contradictory()
        assert found.accepts_branch(f"{major}.{minor}")


CONDITIONS = [  # directive, condition, value, holds, proposal
    ("memory_limit", ">= 256M", "128M", False, "256M"),
    ("memory_limit", ">= 256M", "-1", True, None),
    ("memory_limit", ">= 256M", "268435456", True, None),
    ("memory_limit", "<= 1G", "-1", False, "1G"),
    ("max_execution_time", ">= 60", "0", True, None),
    ("max_input_vars", ">= 5000", "0", False, "5000"),
    ("upload_max_filesize", ">= 16M", "200", False, "16M"),
    ("post_max_size", ">= 20M", "0", True, None),
    ("x", "> 5", "5", False, "6"),
    ("x", "< 5", "5", False, "4"),
    ("x", ">= 2, <= 8", "1", False, "2"),
    ("x", ">= 2, <= 8", "9", False, "8"),
    ("session.auto_start", "off", "0", True, None),
    ("session.auto_start", "off", "1", False, "Off"),
    ("opcache.enable", "on", "", False, "On"),
    ("open_basedir", "unset", "/srv", False, ""),
    ("open_basedir", "unset", "", True, None),
    ("date.timezone", "= UTC", "Europe/Vienna", False, "UTC"),
    ("date.timezone", "!= UTC", "UTC", False, None),
    ("x", "= 1K", "1024", True, None),
]


@pytest.mark.parametrize(("name", "text", "value", "holds", "proposal"), CONDITIONS)
def test_conditions(name: str, text: str, value: str, holds: bool, proposal: str | None) -> None:
    found = condition(name, text)
    assert found.holds(name, value) is holds
    if proposal is not None:
        assert found.proposal(name, value) == proposal
        assert found.holds(name, proposal)


@given(st.text(max_size=80))
def test_any_text_is_read_or_refused_in_one_line(text: str) -> None:
    try:
        parse(HEAD + text, "f")
    except InputError as error:
        assert str(error).startswith("f:")


def test_of_very_many_mistakes_the_first_are_told() -> None:
    wrong = "".join(f'observatory_{n} = "sky"\n' for n in range(150))
    with pytest.raises(InputError) as caught:
        parse(f"{HEAD}[settings.required]\n{wrong}", "night.needs.toml")
    lines = str(caught.value).splitlines()
    assert len(lines) == 101
    assert lines[0].startswith("night.needs.toml:5:1: ")
    assert lines[-1] == "night.needs.toml: more than these is wrong; correct them first"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("\n" * 20_001, "x: more than 20,000 lines"),
        (f"\na = '{'b' * 20_000}'", "x:2: a line of more than 20,000 characters"),
        (f"a = [\n{'1,' * 3000}\n{'1,' * 3000}\n]", "x: more than 5,000 entries"),
        (f"a = 1\nb = {{ {'c.' * 20}d = 1 }}", "x:2:7: nested too deeply"),
        (f"a = 1\n{''' 'c' .''' * 20} d = 1", "x:2:2: nested too deeply"),
    ],
)
def test_a_document_without_end_is_refused(text: str, said: str) -> None:
    with pytest.raises(InputError) as caught:
        document(text, "x")
    assert str(caught.value) == said
