"""Lookups in the catalogue."""

import pytest

from fundamentum import catalog
from fundamentum.catalog.symbols import Kind, span_in_php


@pytest.mark.parametrize(
    ("name", "branch", "sapi", "there"),
    [
        ("json", "8.2", "fpm", True),
        ("json", "7.4", "fpm", False),
        ("openssl", "8.2", "fpm", True),
        ("sodium", "8.4", "cgi", True),
        ("pcntl", "8.2", "cli", True),
        ("pcntl", "8.2", "fpm", False),
        ("dom", "8.2", "fpm", False),
        ("opcache", "8.5", "fpm", True),
    ],
)
def test_what_is_inside_php(name: str, branch: str, sapi: str, there: bool) -> None:
    assert catalog.inside(name, branch, sapi) is there


def test_a_branch_between_harvested_ones_has_what_both_neighbours_agree_on() -> None:
    between = catalog.facts("8.3")
    assert between.default("memory_limit", "fpm") == "128M"
    low, high = catalog.facts("8.2").directives, catalog.facts("8.4").directives
    assert all(low[name] == high[name] == directive for name, directive in between.directives.items())


@pytest.mark.parametrize(
    ("name", "branch", "since"),
    [
        ("safe_mode", "8.2", "5.4"),
        ("track_errors", "8.2", "8.0"),
        ("track_errors", "7.4", None),
        ("memory_limit", "8.4", None),
        ("assert.quiet_eval", "7.4", None),
        ("no_such_thing", "8.4", None),
    ],
)
def test_directives_that_are_gone(name: str, branch: str, since: str | None) -> None:
    assert catalog.directive_gone(name, branch) == since


def test_names_have_one_spelling() -> None:
    spelt = {"Zend OPcache": "opcache", "zend-opcache": "opcache", "pdo-mysql": "pdo_mysql", "SimpleXML": "simplexml"}
    assert {name: catalog.canonical(name) for name in spelt} == spelt


def test_the_command_line_has_no_time_limit() -> None:
    assert catalog.facts("8.2").forced["cli"]["max_execution_time"] == "0"


def test_every_api_number_leads_back_to_its_branch() -> None:
    assert all(catalog.branch_of_api(catalog.api_number(branch) or "") == branch for branch in catalog.known_branches())


@pytest.mark.parametrize(
    ("kind", "name", "span"),
    [
        ("function", "preg_match", ("", "")),
        ("function", "JSON_ENCODE", ("", "")),
        ("class", "ArrayObject", ("", "")),
        ("function", "str_contains", ("8.0", "")),
        ("function", "array_is_list", ("8.1", "")),
        ("function", "each", ("", "8.0")),
        ("function", "mb_strlen", None),
        ("function", "nobody_defines_this", None),
    ],
)
def test_in_which_branches_php_itself_has_something(kind: Kind, name: str, span: tuple[str, str] | None) -> None:
    assert span_in_php(kind, name) == span
