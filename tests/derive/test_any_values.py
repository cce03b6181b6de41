"""PHP's functions, where a program is tried out, take whatever a program may give them: it is not known beforehand."""

from contextlib import suppress
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.php_source.functions import FUNCTIONS
from fundamentum.derive.php_source.nodes import Patience
from fundamentum.derive.trying.builtins import BUILTINS, builtin
from fundamentum.derive.trying.changing import CHANGING, change
from fundamentum.derive.trying.machine import Frame, Given, Leave
from fundamentum.derive.trying.program import Program
from fundamentum.derive.trying.running import Running
from fundamentum.derive.trying.sorting import SORTING
from fundamentum.derive.trying.values import UNKNOWN, Array, BoundMethod, Instance, Kind, Loaded, OneOf
from fundamentum.derive.trying.worlds import World

CODE = b"<?php f();"
KIND = Kind("plate", None, None, whole=True)
PLAIN = st.one_of(
    st.none(),
    st.booleans(),
    st.sampled_from([0, 1, -1, 7, 2**40, -(2**62), 0.0, 1.5, 1e300, float("inf"), float("nan")]),
    st.sampled_from(["", "x", "gd", "8.1", "128M", "/^a/", "%s %d", "\0", "a,b", "é", "extension_loaded"]),
)
OBJECTS = st.builds(lambda: Instance(KIND, made=True))
UNSURE = st.one_of(
    st.just(UNKNOWN),
    OBJECTS,
    st.builds(BoundMethod, OBJECTS, st.just("name")),
    st.builds(
        Loaded, st.sampled_from(["extension", "driver", "function"]), flipped=st.booleans(), absent=st.booleans()
    ),
)
VALUES: st.SearchStrategy[Any] = st.recursive(
    st.one_of(PLAIN, UNSURE),
    lambda inner: st.one_of(
        st.builds(OneOf, st.lists(inner, min_size=2, max_size=2)),
        st.builds(Array, st.dictionaries(st.sampled_from(["a", "x y", 0, 1]), inner, max_size=3), loose=st.booleans()),
    ),
    max_leaves=5,
)


def machine() -> Running:
    """One that stands at a call."""
    Patience.begin()
    program = Program([SourceFile("-", len(CODE), "own")], {}, lambda _: CODE)
    made, code = Running(program, World()), program.code("-")
    assert code is not None
    made.frames.append(Frame(code, made.globals, UNKNOWN))
    made.place = code.root.kids[-1].kids[0]
    return made


@settings(max_examples=60, deadline=None)
@given(st.lists(VALUES, max_size=4), st.booleans())
def test_functions_take_any_values(values: list[Any], whole: bool) -> None:
    running = machine()
    for name in sorted({*BUILTINS, *FUNCTIONS}):
        if (function := builtin(name)) is not None:
            with suppress(Leave):
                function(running, Given(values, {}, {}, whole=whole))


@settings(max_examples=60, deadline=None)
@given(st.builds(Array, st.dictionaries(st.integers(0, 3), VALUES, max_size=3)), st.lists(VALUES, max_size=3))
def test_functions_that_change_a_list_take_any_values(whole: Array, values: list[Any]) -> None:
    running = machine()
    for name in sorted({*CHANGING, *SORTING}):
        with suppress(Leave):
            change(running, name, whole, Given([whole, *values], {}, {}))
