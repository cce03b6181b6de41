"""Switches of PHP that a program asks for: ``if (!ini_get('allow_url_fopen')) { $errors[] = '...'; }``"""

from collections.abc import Iterator
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Wish
from fundamentum.derive.php_source.nodes import (
    FUNCTIONS,
    ancestors,
    arguments,
    field,
    line,
    names_around,
    nearest,
    string,
    text,
)
from fundamentum.derive.php_source.scalars import is_true
from fundamentum.derive.statements.branches import root_of
from fundamentum.derive.statements.consequences import consequences
from fundamentum.derive.statements.limit_checks import entries_gone_through
from fundamentum.derive.statements.truth import known_around

SWITCHES: Final = frozenset(
    "allow_url_fopen allow_url_include file_uploads implicit_flush mbstring.encoding_translation opcache.enable "
    "opcache.save_comments register_argc_argv session.auto_start session.use_cookies session.use_only_cookies "
    "session.use_trans_sid short_open_tag zlib.output_compression".split()
)
"""Those on which a program can depend; the others concern what is shown or logged."""
ZONE: Final = "date.timezone"
_WORDS: Final = {"1": True, "on": True, "true": True, "yes": True, "0": False, "off": False, "false": False, "": False}
_STATES: Final = (("1", ""), ("On", "Off"), ("1", "0"))
"""What ``ini_get`` tells of a switch that is on, and off; or what a program may expect of it."""
_CONDITIONAL: Final = frozenset(
    {"if_statement", "else_if_clause", "else_clause", "switch_statement", "foreach_statement"}
)
_EQUAL: Final = {"==": True, "===": True, "!=": False, "!==": False, "<>": False}


def switches_wanted(call: Node) -> Iterator[Wish]:
    """What one call of ``ini_get`` tells of a switch, as far as something comes of its state."""
    given = arguments(call)
    name = string(given[0]) if given else None
    if given and given[0].type == "variable_name":
        yield from _of_table(call, text(given[0]))
    if name not in SWITCHES and name != ZONE:
        return
    condition, on_where_true = switch_condition(call)
    yield from switch_wish(name, condition, on_where_true, f"ini_get('{name}') is asked")


def switch_wish(name: str, condition: Node, on_where_true: bool, how: str) -> Iterator[Wish]:
    """What is wanted of a switch by what comes of a condition, which is true where it is on, or where it is not."""
    for holds, result in consequences(condition):
        wanted = "off" if holds is on_where_true else "zone" if name == ZONE else "on"
        if name == ZONE and wanted == "off":
            continue
        stops = result != "warns" and not _nested(condition)
        yield Wish("setting", name, wanted, line(condition), how, stops, " ".join(names_around(condition)))
        return


def _of_table(call: Node, name: str) -> Iterator[Wish]:
    """``foreach (['file_uploads' => true] as $name => $wanted) { if ((bool) ini_get($name) !== $wanted) ... }``"""
    comparison = nearest(call, "binary_expression")
    if comparison is None or text(field(comparison, "operator")) not in _EQUAL:
        return
    results = [result for _, result in consequences(comparison)]
    for key, value in entries_gone_through(root_of(call), call, name) if results else ():
        wanted = _WORDS.get((string(value) or text(value)).strip("'\"").lower())
        if key in SWITCHES and wanted is not None:
            how = f"ini_get('{key}') is asked"
            yield Wish("setting", key, "on" if wanted else "off", line(value), how, results[0] != "warns")


def _nested(condition: Node) -> bool:
    """Whether it is asked for under another condition only: where something was chosen, say."""
    for above, child in ancestors(condition):
        if above.type in FUNCTIONS:
            return False
        if above.type in _CONDITIONAL and child != field(above, "condition"):
            return True
    return False


def switch_condition(call: Node) -> tuple[Node, bool]:
    """The expression that is true or not with the switch, and whether it is true where the switch is on."""
    for states in _STATES:
        deciding: tuple[Node, bool] | None = None
        for at, told in known_around(call, states, lambda _: None):
            truths = [is_true(value) for value in told]
            answers = truths[0] is not truths[1] and [] not in told  # nothing (null) is no answer
            deciding = (at, truths[0]) if answers else deciding
        if deciding is not None:
            return deciding
    return call, True
