"""What expressions of PHP come to, and the range of versions for which a condition holds."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from tree_sitter import Node

from fundamentum.derive.php_source.evaluation import cases_of
from fundamentum.derive.php_source.functions import version_order
from fundamentum.derive.php_source.nodes import Patience, parser
from fundamentum.derive.statements.versions_compared import Compared, versions_compared

KNOWN = [
    # an expression, and what PHP 8.2 makes of it; None: that is not told
    ("version_compare('8.1.0', '8.1', '>')", True),
    ("version_compare('8.1.0RC1', '8.1.0')", -1),
    ("version_compare('8.1.0pl1', '8.1.0', 'gt')", True),
    ("version_compare('8.10', '8.9', 'le')", False),
    ("intdiv(80123, 100)", 801),
    ("(int) '8abc' + 1", 9),
    ("explode('.', '8.1.3')[1]", "1"),
    ("implode('.', array_slice(explode('.', '8.1.3'), 0, 2))", "8.1"),
    ("sprintf('%d%02d', 8, 1)", "801"),
    ("substr('8.1.3', -3, 2)", "1."),
    ("strpos('8.1', '9') === false", True),
    ("'10' == '1e1' || '8.1' > '8'", True),
    ("8 . '.' . 1", "8.1"),
    ("true . false . '.'", "1."),
    ('"8.{$n}" . 1', None),
    ("preg_replace('/-.*/', '', '8.1-dev')", "8.1"),
    ("preg_match('/(a+)+(b+)+(c+)+/', 'aaa')", None),
    ("true && unknown()", None),
    ("false && unknown()", False),
    ("!empty([]) ?: 'none'", "none"),
    ("max(7, '8.1')", "8.1"),
    ("'abc' < 5", None),
    ("1 / 0", None),
    ("str_repeat('a', 1000000000)", None),
    ("[1, 2][5]", None),
    ("['a' => 1]", None),
]


def value(expression: str) -> Node | None:
    Patience.begin()
    root = parser().parse(f"<?php $r = {expression};".encode()).root_node
    return root.named_children[1].named_children[0].child_by_field_name("right")


@pytest.mark.parametrize(("expression", "known"), KNOWN)
def test_what_an_expression_comes_to(expression: str, known: object) -> None:
    assert cases_of(value(expression), lambda _: None, 1) == (known,)


VERSIONS = st.tuples(st.sampled_from([5, 7, 8]), st.integers(1, 4), st.integers(0, 40))
TURNED = {"<": ">=", ">=": "<"}


def told(program: str) -> Compared:
    Patience.begin()
    data = f"<?php {program}".encode()
    return next(iter(versions_compared(parser().parse(data).root_node, data)))


@given(VERSIONS, st.sampled_from(["<", ">="]), st.booleans())
def test_a_range_is_found_however_it_is_written(version: tuple[int, int, int], sign: str, denied: bool) -> None:
    major, minor, patch = version
    number = major * 10000 + minor * 100 + patch
    plain = f"{major}.{minor}.{patch}"
    ways = [
        f"PHP_VERSION_ID {sign} {number}",
        f"version_compare(PHP_VERSION, '{plain}', '{sign}')",
        f"version_compare('{plain}', phpversion()) {'> 0' if sign == '<' else '<= 0'}",
        f"PHP_MAJOR_VERSION * 10000 + PHP_MINOR_VERSION * 100 + PHP_RELEASE_VERSION {sign} {number}",
    ]
    for way in ways:
        found = told(f"if ({'!' if denied else ''}({way})) exit;")
        holds, fails = (found.fails, found.holds) if denied else (found.holds, found.fails)
        assert (bounds(holds), bounds(fails)) == ([(sign, version)], [(TURNED[sign], version)])


def bounds(found: tuple[tuple[str, object], ...]) -> list[tuple[str, tuple[int, ...]]]:
    return [(sign, tuple(map(int, f"{version}.0.0".split(".")[:3]))) for sign, version in found]


@given(st.lists(st.integers(0, 40), min_size=1, max_size=4), st.lists(st.integers(0, 40), min_size=1, max_size=4))
def test_versions_of_numbers_are_ordered_as_such(one: list[int], other: list[int]) -> None:
    left, right = (".".join(map(str, numbers)) for numbers in (one, other))
    assert version_order(left, right) == (one > other) - (one < other) == -version_order(right, left)


VALUES = st.sampled_from(["0", "1", "7", "'8.1'", "'7.4.2'", "''", "true", "false", "[]", "8.1"])


def joined(parts: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    signs = st.sampled_from(["&&", "||", "xor", "<", ">=", "==", "===", "!==", ".", "+", "*"])
    calls = st.sampled_from(
        ["intval(%s)", "!%s", "empty(%s)", "version_compare(%s, '8.0', '<')", "(string) %s", "(%s ? 1 : '')"]
    )
    return st.tuples(parts, signs, parts).map(lambda three: "({} {} {})".format(*three)) | st.tuples(calls, parts).map(
        lambda two: two[0] % two[1]
    )


@given(st.recursive(VALUES | st.just("$a"), joined, max_leaves=8), st.lists(VALUES, min_size=1, max_size=4))
def test_what_is_told_without_a_value_holds_for_each(expression: str, values: list[str]) -> None:
    known = [cases_of(value(one), lambda _: None, 1)[0] for one in values]
    node = value(expression)
    without = cases_of(node, lambda _: None, 1)[0]
    with_each = cases_of(node, lambda part: tuple(known) if part.type == "variable_name" else None, len(known))
    if without is not None:
        assert all(one is None or one == without for one in with_each)
