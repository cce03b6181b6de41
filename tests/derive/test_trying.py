"""Programs that are tried out: what their expressions come to, what comes of what is missing, on which PHP they run."""

import pickle
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.derive import derive
from fundamentum.derive.php_source.functions import version_order
from fundamentum.derive.php_source.nodes import Patience
from fundamentum.derive.trying import attempts
from fundamentum.derive.trying.bounds import bounds_of_code
from fundamentum.derive.trying.program import RESERVED, Ledger, Program
from fundamentum.derive.trying.property_kinds import classes_of_properties
from fundamentum.derive.trying.running import Running
from fundamentum.derive.trying.settings import wishes
from fundamentum.derive.trying.trials import Trial
from fundamentum.derive.trying.values import UNKNOWN, Array, OneOf
from fundamentum.derive.trying.worlds import World


def trial(code: str) -> Trial:
    """A program of one file."""
    Patience.begin()
    data = f"<?php {code}".encode()
    return Trial(
        Program([SourceFile("-", len(data), "own")], {}, lambda _: data), lambda machine: machine.whole_file("-")
    )


def value(expression: str, before: str = "") -> object:
    """What an expression comes to; a list as Python's."""
    Patience.begin()
    data = f"<?php {before} return {expression};".encode()
    machine = Running(Program([SourceFile("-", len(data), "own")], {}, lambda _: data), World())
    return plain(machine.whole_file("-")[1])


def plain(told: object) -> object:
    if isinstance(told, Array):
        listed = list(told.items) == list(range(len(told.items)))
        values = {key: plain(item) for key, item in told.items.items()}
        return list(values.values()) if listed else values
    return "?" if told is UNKNOWN or isinstance(told, OneOf) else told


EXPRESSIONS = [
    # an expression, and what PHP 8.2 makes of it; "?": that is not told
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
    ('"8.{$n}" . 1', "?"),
    ("preg_replace('/-.*/', '', '8.1-dev')", "8.1"),
    ("preg_match('/(a+)+(b+)+(c+)+/', 'aaa')", "?"),
    ("true && unknown()", "?"),
    ("false && unknown()", False),
    ("unknown() && false", False),
    ("unknown() || true", True),
    ("!empty([]) ?: 'none'", "none"),
    ("max(7, '8.1')", "8.1"),
    ("'abc' < 5", "?"),
    ("1 / 0", "?"),
    ("str_repeat('a', 1000000000)", "?"),
    ("[1, 2][5]", None),
    ("['a' => 1, 2, '5' => 3, 4]", {"a": 1, 0: 2, 5: 3, 6: 4}),
    ("array_merge(['a'], ['k' => 'b'], ['c'])", {0: "a", "k": "b", 1: "c"}),
    ("array_filter(['a', '', 'b'])", {0: "a", 2: "b"}),
    ("array_map(fn ($one) => $one . '!', ['a', 'b'])", ["a!", "b!"]),
    ("array_reduce([1, 2, 3], function ($sum, $one) { return $sum + $one; }, 0)", 6),
    ("array_values(array_diff(['a', 'b'], ['b']))", ["a"]),
    ("[...['a'], ...['b']]", ["a", "b"]),
    ("array_combine(['a'], [1]) + ['a' => 2, 'b' => 3]", {"a": 1, "b": 3}),
    ("match (true) { false => 1, default => 2 }", 2),
    ("(function () { foreach ([1, 2] as $one) { yield $one; } })()", [1, 2]),
    ("(fn (...$all) => count($all))(1, 2, 3)", 3),
    ("json_decode('{\"a\": [1]}', true)['a'][0]", 1),
    ("[null ?? 'x', $n ?? 'y']", ["x", "?"]),
]


@pytest.mark.parametrize(("expression", "known"), EXPRESSIONS)
def test_what_an_expression_comes_to(expression: str, known: object) -> None:
    assert value(expression) == known


PROGRAMS = [
    # statements, and an expression behind them
    ("$a = [3, 1]; list($x, $y) = $a; [$x, $y] = [$y, $x];", "$x - $y", -2),
    ("function add(array &$to, $one) { $to[] = $one; } $l = []; add($l, 'x'); add($l, 'y');", "count($l)", 2),
    ("class A { public $n = 1; static $all = []; function up() { $this->n++; self::$all[] = 1; return $this; } }",
     "[(new A)->up()->up()->n, count(A::$all)]", [3, 2]),
    ("class B { const X = 'x'; function x() { return static::X; } } class C extends B { const X = 'y'; }",
     "(new C)->x()", "y"),
    ("enum E: string { case One = 'a'; case Two = 'b'; function is() { return $this === self::Two; } }",
     "array_map(fn ($e) => $e->is(), E::cases())", [False, True]),
    ("trait T { function t() { return $this->v; } } class D { use T; function __construct(private $v = 7) {} }",
     "(new D)->t()", 7),
    ("try { throw new Absent('x'); } catch (RuntimeException | Absent $e) { $c = 1; } finally { $f = 2; }",
     "$c + $f", 3),
    ("$n = 0; for ($i = 0; $i < 9; $i++) { if ($i === 5) break; if ($i % 2) continue; $n += $i; }", "$n", 6),
    ("switch (2) { case 1: $s = 'a'; case 2: $s = 'b'; case 3: $s .= 'c'; break; default: $s = 'd'; }", "$s", "bc"),
    ("foreach (['a' => ['n' => 1]] as $k => ['n' => $n]) { $t = $k . $n; }", "$t", "a1"),
    ("$rows = [['v' => 1], ['v' => 2]]; foreach ($rows as &$row) { $row['v'] *= 2; }", "array_sum(array_column($rows, 'v'))", 6),
    ("if (unknown()) { $u = 1; } else { $u = 2; } $list = []; if (unknown()) { $list[] = 1; }",
     "[$u > 0, $u === 1, empty($list)]", [True, "?", "?"]),
    ("function f($x) { if (unknown()) { return 'a'; } return 'b'; }", "[f(1) === 'c', f(1) === 'a']", [False, "?"]),
    ("static $s = 4; global $g; $o = (object) ['a' => 5]; $copy = clone $o; $copy->a = 6; $name = 'a';",
     "[$s, $o->a, $copy->$name]", [4, 5, 6]),
]  # fmt: skip


@pytest.mark.parametrize(("before", "expression", "known"), PROGRAMS)
def test_what_a_program_comes_to(before: str, expression: str, known: object) -> None:
    assert value(expression, before) == known


ASKING = [
    # a program, and what comes of it where gd is missing
    ("if (!extension_loaded('gd')) { exit; }", "stops"),
    ("if (extension_loaded('gd')) { return; } echo 'no'; throw new X;", "stops"),
    ("if (!extension_loaded('gd')) { $n++; } if ($n > 0) { exit; }", "stops"),
    ("if (!extension_loaded('gd')) { $m[] = 1; } $m = []; if ($m) { exit; }", ""),
    ("function f() { if (!extension_loaded('gd')) { $m[] = 1; } return $m; } if ($l = f()) { exit; }", "stops"),
    ("$x['a'] = extension_loaded('gd'); foreach ($x as $one) { if (!$one) { exit; } }", "stops"),
    ("if (extension_loaded('gd') && $b) { one(); } else { exit; }", "stops"),
    ("if (extension_loaded('gd')) { error_reporting(0); }", ""),
    ("try { if (!extension_loaded('gd')) throw new X; } catch (X $e) { } echo 1;", ""),
    ("if ($setting) { exit; } if (!extension_loaded('gd')) { exit(1); }", "stops"),
    ("$ok = extension_loaded('gd'); if (!$ok) { if ($setting) { exit; } }", "stops in doubt"),
    ("$errors = []; if (!extension_loaded('gd')) { $errors[] = 'gd'; }", "reports"),
    ("if (!extension_loaded('gd')) { $warnings[] = 'gd is missing'; }", "warns"),
]


@pytest.mark.parametrize(("program", "told"), ASKING)
def test_what_comes_of_what_is_missing(program: str, told: str) -> None:
    comes = [one.comes for one in trial(program).told() if one.names == ("gd",)]
    assert [f"{come.outcome}{' in doubt' if come.doubt else ''}" for come in comes] == [told]


def test_of_several_the_fewest_are_told_without_which_it_ends() -> None:
    asked = " && ".join(f"!extension_loaded('{name}')" for name in ("gd", "imagick", "gmagick"))
    told = list(trial(f"if ({asked}) exit; if (!extension_loaded('intl')) exit;").told())
    assert {one.names for one in told if one.comes.outcome} == {("intl",), ("gd", "imagick", "gmagick")}


NAMES = ("curl", "gd", "intl", "zip")
VERSIONS = st.tuples(st.sampled_from([5, 7, 8]), st.integers(1, 3), st.integers(0, 40))


def test_a_file_that_goes_on_for_long_is_left_for_the_one_that_includes_it() -> None:
    Patience.begin()
    long = "<?php $there = extension_loaded('gd');" + "$there = $there && strlen('more') > 1;" * 1500
    files = {"long.php": long, "page.php": "<?php include 'long.php'; if (!extension_loaded('zip')) { die('zip'); }"}
    listed = [SourceFile(path, len(code), "own") for path, code in files.items()]
    program = Program(listed, {}, lambda path: files[path].encode())
    program.matter(["long.php"], list(files))
    gone = Trial(program, lambda machine: machine.whole_file("page.php"))
    assert {told.names: told.comes.outcome for told in gone.told()} == {("gd",): "", ("zip",): "stops"}


def test_on_a_server_of_the_same_state_a_way_is_gone_once() -> None:
    gone = trial("if (!extension_loaded('gd')) { die('gd'); }")
    first = gone.run(World(frozenset(["gd"])))
    assert gone.run(World(frozenset(["gd"]))) is first


ONE_ENOUGH = [
    ("if (version_compare(PHP_VERSION, '7.4', '<')) die();", (8, 0, 0), True),
    ("if (version_compare(PHP_VERSION, '7.4', '<')) die();", (7, 3, 0), False),
    ("if (version_compare(PHP_VERSION, '8.3.12', '<')) die();", (8, 3, 13), False),
    ('$v = phpversion(); echo "This is $v"; if (PHP_VERSION_ID < 70400) die();', (8, 0, 0), True),
    ("echo substr(PHP_VERSION, 0, 1);", (8, 0, 0), False),
    ("echo PHP_VERSION[0];", (8, 0, 0), False),
    ("echo PHP_MAJOR_VERSION;", (8, 0, 0), False),
    ("if (PHP_VERSION_ID - 70000 < 0) die();", (8, 0, 0), False),
    ("if (PHP_VERSION > '7.4') echo 1;", (8, 0, 0), False),
    ("echo 'nothing of it';", (5, 0, 0), True),
]


@pytest.mark.parametrize(("program", "version", "enough"), ONE_ENOUGH)
def test_versions_that_a_program_compares_alike_are_gone_once(
    program: str, version: tuple[int, int, int], enough: bool
) -> None:
    gone = trial(program)
    assert (gone.run(World(version=version)) is gone.base) is enough


def test_what_nothing_asks_for_makes_no_other_server() -> None:
    gone = trial("if (!extension_loaded('gd')) { echo ini_get('memory_limit'); }")
    assert gone.run(World(frozenset(["intl"]), settings={"memory_limit": "1M"})) is gone.base
    assert gone.run(World(frozenset(["gd"]))) is not gone.base


def test_what_a_page_does_not_ask_for_is_for_the_command_line() -> None:
    listed = "$all = ['gd']; if (PHP_SAPI === 'cli') { $all[] = 'pcntl'; } foreach ($all as $e) extension_loaded($e);"
    assert trial(listed).interfaces.asked_by_commands == {"pcntl"}
    assert trial(f"if (php_sapi_name() !== 'cli') {{ exit; }} {listed}").interfaces.asked_by_commands == frozenset()


def test_whichever_process_goes_on_comes_to_the_same(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    parts = [f"function part{number}() {{ return extension_loaded('{name}'); }}" for number, name in enumerate(NAMES)]
    files = {f"part{number}.php": f"<?php {code}" for number, code in enumerate(parts)}
    files |= {
        f"page{number}.php": f"<?php require 'part{number}.php'; part{number}() || die('no');"
        for number in range(len(NAMES))
    }
    for path, code in files.items():
        (tmp_path / path).write_text(code)
    assert {entry.names for entry in derive(tmp_path).of_kind("extension")} == {(name,) for name in NAMES}
    every_step = derive(tmp_path).entries
    monkeypatch.setattr(attempts, "Ledger", lambda: Ledger(steps=RESERVED + 20))
    few_steps = derive(tmp_path).entries
    one_try = attempts._try

    def by_another(task: attempts._Task) -> bytes:
        attempts._programs.clear()
        return one_try(pickle.loads(pickle.dumps(task)))

    monkeypatch.setattr(attempts, "_try", by_another)
    assert derive(tmp_path).entries == few_steps != every_step


@given(VERSIONS, st.sampled_from(["<", ">="]), st.booleans())
def test_a_bound_is_found_however_it_is_written(version: tuple[int, int, int], sign: str, denied: bool) -> None:
    major, minor, patch = version
    number = major * 10000 + minor * 100 + patch
    plain = f"{major}.{minor}.{patch}"
    ways = [
        f"PHP_VERSION_ID {sign} {number}",
        f"version_compare(PHP_VERSION, '{plain}', '{sign}')",
        f"version_compare('{plain}', phpversion()) {'> 0' if sign == '<' else '<= 0'}",
        f"PHP_MAJOR_VERSION * 10000 + PHP_MINOR_VERSION * 100 + PHP_RELEASE_VERSION {sign} {number}",
    ]
    turned = {"<": ">=", ">=": "<"}[sign]
    for way in ways:
        bounds = bounds_of_code(f"<?php if ({'!' if denied else ''}({way})) exit;".encode())
        said = [(bound.operator, tuple(map(int, f"{bound.version}.0.0".split(".")[:3]))) for bound in bounds]
        assert said == [(sign if denied else turned, version)], way


@given(st.lists(st.integers(0, 40), min_size=1, max_size=4), st.lists(st.integers(0, 40), min_size=1, max_size=4))
def test_versions_of_numbers_are_ordered_as_such(one: list[int], other: list[int]) -> None:
    left, right = (".".join(map(str, numbers)) for numbers in (one, other))
    assert version_order(left, right) == (one > other) - (one < other) == -version_order(right, left)


@given(st.integers(4, 4000), st.sampled_from(["<", "<="]))
def test_the_least_limit_is_found(megabytes: int, sign: str) -> None:
    code = f"if ((int) ini_get('memory_limit') {sign} {megabytes}) {{ exit; }}"
    least = megabytes + (sign == "<=")
    expected = f">= {least // 1024}G" if least % 1024 == 0 else f">= {least}M"
    assert [(wish.name, wish.value, wish.stops) for _, wish in wishes(trial(code), top=True)] == [
        ("memory_limit", expected, True)
    ]


LIMITS = [
    (
        "if (ini_get('upload_max_filesize') < 200) { error_log('cut off'); } $other = 1;",
        "upload_max_filesize >= 200M stops",
    ),
    # a program, and what is told of its limits and switches
    ("if (f(ini_get('memory_limit')) < 64 * 1024 * 1024) { exit; }", "memory_limit >= 64M stops"),
    ("if (to_mb(ini_get('memory_limit')) <= 100) { $notes[] = 1; }", "memory_limit >= 101M"),
    ("if (ini_get('max_input_vars') < 3000) $warnings[] = 'too few';", "max_input_vars >= 3000"),
    ("if (bytes(ini_get('post_max_size')) < 100000000) exit;", "post_max_size >= 100000000 stops"),
    ("if (ini_get('post_max_size') < ini_get('memory_limit')) exit;", ""),
    ("if (!ini_get('file_uploads')) exit;", "file_uploads on stops"),
    ("if (ini_get('session.auto_start')) exit;", "session.auto_start off stops"),
    ("if (!ini_get('date.timezone')) $errors[] = 1;", "date.timezone zone stops"),
    ("echo ini_get('memory_limit'), ini_get('file_uploads') ? 'yes' : 'no';", ""),
]


@pytest.mark.parametrize(("program", "told"), LIMITS)
def test_what_is_told_of_settings(program: str, told: str) -> None:
    found = [
        f"{wish.name} {wish.value}{' stops' if wish.stops else ''}" for _, wish in wishes(trial(program), top=True)
    ]
    assert ", ".join(found) == told


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
    without = value(expression)
    with_each = [value(expression, f"$a = {one};") for one in values]
    if isinstance(without, (bool, int, float, str)) and without != "?":
        assert all(one in ("?", without) for one in with_each)


STATEMENTS = st.recursive(
    st.sampled_from(["$n++;", "$l[] = $n;", "exit;", "return $n;", "throw new X;", "echo $n;", "break;", "unknown($l);"]),
    lambda inner: st.tuples(
        st.sampled_from(
            ["if (extension_loaded('gd')) {%s}", "if ($a) {%s} else {%s}", "foreach ($l as $n) {%s}", "while ($n < 3) {%s}",
             "try {%s} catch (X $e) {%s}", "switch ($n) { case 1: %s default: %s }", "(function () use (&$l) {%s})();"]
        ),
        st.lists(inner, min_size=1, max_size=3),
    ).map(lambda two: two[0].replace("%s", " ".join(two[1]))),
    max_leaves=12,
)  # fmt: skip


@given(st.lists(STATEMENTS, min_size=1, max_size=4))
def test_any_program_comes_to_an_end(statements: list[str]) -> None:
    tried = trial(" ".join(statements))
    told: Iterator[object] = tried.told()
    assert all(told or True for _ in told)


def test_of_which_class_the_objects_in_properties_are() -> None:
    written = r"""class Page {
        private ?\Night\Checker $checker = null;
        private array $rows = [];
        private object $sky;
        public function __construct(private readonly Log $log, Store $store) {
            $this->store = $store;
            $this->sky = new Sky();
            $this->rows = $rows;
        }
    }"""
    classes = {"checker": "checker", "log": "log", "store": "store", "sky": "sky"}
    assert classes_of_properties(written) == classes
