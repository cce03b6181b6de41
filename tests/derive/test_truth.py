"""What an expression comes to by one condition in it, and what a branch sets for later."""

import pytest
from tree_sitter import Node

from fundamentum.derive.php_source.nodes import Patience, called, parser, walked
from fundamentum.derive.statements.consequences import consequences
from fundamentum.derive.statements.truth import climbed


def asking(program: str) -> Node:
    """The call of ``a()`` in a program."""
    Patience.begin()
    root = parser().parse(f"<?php {program}".encode()).root_node
    return next(node for node in walked(root) if called(node) == "a")


EXPRESSIONS = [
    # an expression with a(); what the whole comes to where a() holds, and where it does not
    ("!a()", (False, True)),
    ("!(a() && $b)", (None, True)),
    ("a() || $b", (True, None)),
    ("$b && a() === false", (False, None)),
    ("(bool) a() != true", (False, True)),
    ("a() ? 'ok' : 'fail'", ("ok", "fail")),
    ("(a() ? 0 : 1) > 0", (False, True)),
    ("1 > (a() ? 0 : 1)", (True, False)),
    ("(a() ? 'x' : 'y') === 'y'", (False, True)),
    ("empty(a())", (False, True)),
    ("a() xor $b", (True, False)),
]


@pytest.mark.parametrize(("expression", "worth"), EXPRESSIONS)
def test_what_an_expression_comes_to(expression: str, worth: tuple[object, object]) -> None:
    assert list(climbed(asking(f"$r = {expression};")))[-1][1] == worth


PROGRAMS = [
    # a program that asks a(); what comes of it where that holds, and where it does not
    ("if (!a()) { exit; }", {(False, "stops")}),
    ("if (a()) { return; } echo 'no'; throw new X;", {(False, "stops")}),
    ("if (!a()) { $n++; } if ($n > 0) { exit; }", {(False, "stops")}),
    ("if (!a()) { $m[] = 1; } $m = []; if ($m) { exit; }", set()),
    ("function f() { if (!a()) { $m[] = 1; } return $m; } if ($l = f()) { exit; }", {(False, "stops")}),
    ("$x['a'] = a(); foreach ($x as $one) { if (!$one) { exit; } }", {(False, "stops")}),
    ("if (a() && $b) { one(); } else { exit; }", {(False, "stops")}),
    ("if (a()) { error_reporting(0); }", set()),
]


@pytest.mark.parametrize(("program", "told"), PROGRAMS)
def test_what_comes_of_a_condition(program: str, told: set[tuple[bool, str]]) -> None:
    assert {(holds, result) for holds, result in consequences(asking(program)) if result} == told
