"""Applications without an end: deriving ends in time and within memory, and says what it left."""

from pathlib import Path

import pytest

from tests.hostile.program import run

pytestmark = pytest.mark.long
CODE: dict[str, str] = {
    "conditions nested 50,000 deep": "if (extension_loaded('gd')) {" * 50_000 + "imagecreate(1, 1);" + "}" * 50_000,
    "tables of rights": "$x = ['a/b' => '755'," * 400_000 + "imagecreate(1, 1);",
    "lines for cron": "// * * * * * php cron.php\n" * 200_000 + "# " + "* * * * " * 400_000 + "\nimagecreate(1, 1);",
    "settings of places": "$log_dir = __DIR__ . '/log' . $b; " * 100_000 + "imagecreate(1, 1);",
    "places to write": "$a = $a . 'x'; file_put_contents(\"$a/$b\" . D, 1);" * 30_000 + "imagecreate(1, 1);",
    "versions beneath": "".join(f"if (version_compare(INTL_ICU_VERSION, '{n}.1', '<')) exit;\n" for n in range(20_000))
    + "imagecreate(1, 1);",
    "brackets": "$x = " + "(" * 50_000 + "imagecreate(1, 1)" + ")" * 50_000 + ";",
    "negations": "!" * 200_000 + "extension_loaded('gd');",
    "branches": "if ($a) {}" + "elseif (extension_loaded('gd')) { imagecreate(1, 1); }" * 30_000,
    "strings": "$x = " + '"a".' * 400_000 + '"b"; imagecreate(1, 1);',
    "versions under names": "".join(f"$v{n} = PHP_VERSION; if ($v{n} < '8.{n}') exit;\n" for n in range(20_000)),
    "versions joined": "if (" + " || ".join(f"PHP_VERSION_ID == {n}" for n in range(50_000, 90_000)) + ") exit;",
    "patterns": "if (preg_match('/^(a+)+(b+)+[0-9.]*/', PHP_VERSION)) exit;" * 20_000,
    "lists of lists": "".join(f"$l{n} = array_merge($l{n + 1}, $l{n + 1}, $l{n + 2});" for n in range(5_000))
    + "foreach ($l0 as $e) { if (!extension_loaded($e)) exit; }",
    "lists emptied into each other": (
        "while ($a = array_shift($b)) { while ($b = array_shift($a)) { if (!extension_loaded($a)) exit; } }" * 5_000
    ),
    "closures of one name": "$f = function ($e) { if (!extension_loaded($e)) exit; }; $f('gd');" * 10_000,
    "calls of each other": "".join(
        f"function f{n}($x) {{ if ($x) {{ return f{n + 1}($x) . f{n + 2}($x); }} return extension_loaded('gd'); }}"
        for n in range(3_000)
    )
    + "if (!f0($a)) exit;",
    "values that grow": "$l = range(0, 99); $s = 'a'; $n = 9;"
    + "$l = array_map(fn ($x) => $l, $l); $s = implode($s, array_fill_keys($l, $s)); $n = pow($n, 19);" * 2_000
    + "if (!extension_loaded('gd') && $n) exit($s);",
    "ways that part": "if ($a) { $x = 1; } else { $x = 2; } foreach ($l as $x) { if ($x) { continue 2; } }" * 3_000
    + "if ($x && !extension_loaded('gd')) exit;",
    "names put together": "new $c; function f_imap() { imap_open('a', 'b', 'c'); }" + "'f_' . $k . 'x';" * 20_000,
    "names of variables": "new $c; function f_imap() { imap_open('a', 'b', 'c'); }" + "'" + "$a[" * 80_000,
    "lines for the shell": "`a`;" * 40_000 + "`" + "a " * 100_000,
    "collectors": "if (extension_loaded('gd')) { $d[] = 1; }" * 5_000 + "if (!$d) exit;" * 5_000,
    "setters": "class A { private $n; "
    + "".join(f"function s{n}($x) {{ $this->n[] = $x; }}" for n in range(3_000))
    + "function c() { foreach ($this->n as $e) { if (!extension_loaded($e)) exit; } } }",
    "blanks": "mysql_query($a); function"
    + " " * 300_000
    + "if (PHP_VERSION_ID < 80100) fn"
    + "\n" * 300_000
    + "catch(",
    "results under a key": "$rows = ["
    + "['ok' => extension_loaded('gd')]," * 3_000
    + "]; foreach ($rows as $r) { "
    + "if (!$r['ok']) { $errors[] = 1; }" * 3_000
    + "}",
    "ways one after the other": "function f() { "
    + "if (function_exists('imap_open')) return 1;" * 5_000
    + "throw new E; }",
    "functions that call each other": "extension_loaded('imagick');"
    + "".join(f"function f{n}() {{ new Imagick; f{n * 7 % 400}(); f{n * 11 % 400}(); }}" for n in range(400)),
    "ends of code in quotes": "echo 1, " + "'__halt_compiler();', " * 400_000,
    "imports": "use mongodb\\driver as " * 200_000
    + "\n" * 300_000
    + "use " * 300_000
    + "a; new manager; extension_loaded('gd');",
    "classes asked for": "".join(f"use a\\b{n}; if (!class_exists(b{n}::class)) exit;\n" for n in range(20_000)),
    "answers that are passed on": "if (extension_loaded('gd')) imagecreate(1, 1);"
    + ("function f() { return" + " " * 2_000) * 2_000,
    "classes in variables": "".join(f"$a{n} = 'ZipArchive'; " for n in range(30_000)) + "new $c;" + "$b::" * 100_000,
    "namespaces": "".join(f"namespace a{n}; use b\\c{n}; new PDO('mysql:host=x');\n" for n in range(40_000)),
    "objects that hold each other": "class A { public $a; function __construct($a) { $this->a = $a; } }\n"
    "$l = [new A(1)];"
    + "$l = [new A($l), new A($l), new A($l), new A($l), new A($l), new A($l), new A($l), new A($l)];" * 300
    + "if (!extension_loaded('gd')) { $l[] = 1; } if ($l) exit;",
    "lists that hold each other": "$l = [extension_loaded('gd')]; $k = [extension_loaded('gd')];"
    + "$l = [$l, $l, $l, $l, $l, $l, $l, $l]; $k = [$k, $k, $k, $k, $k, $k, $k, $k];" * 60
    + "if ($l == $k || in_array($l, [$k])) exit; switch ($l) { case $k: exit; } $s = json_encode([$l, $k, PHP_VERSION]);"
    "if ($a) { $l = $k; } if (!$l || !$s) exit;",
    "what a class collects": "class A { static $s; static function a($x) { self::$s[] = [self::$s, self::$s, $x]; } }\n"
    + "A::a(extension_loaded('gd'));" * 200
    + "if (A::$s) exit;",
    "programs of which any will do": "".join(f"if (!shell_exec('which tool{n}')) {{ $m[] = 1; }}\n" for n in range(400))
    + "if (count($m) === 400) exit('all missing');",
    "tests of the version": "if (PHP_VERSION_ID < 70100) { a(); } elseif (70200 > PHP_VERSION_ID) { imagecreate(1, 1); }"
    * 10_000,
    "references that calls hand over": "f(&$a, 1 & $b, array(&$c), &" * 20_000 + "$x" + ")" * 20_000 + ";",
    "choices of two": "switch ($this->engine) { case 'gmp': gmp_add(1, 2); default: bcadd(1, 2); }" * 10_000,
    "tables with PHP in them": "$r = ['extensions' => 1, "
    + "'php' => ['min' => '8.0']," * 30_000
    + "]; imagecreate(1, 1);",
    "chains of calls on requirements": "Requirements::create()" + "->php('8.1')->extension('gd')" * 10_000 + ";",
    "rows taken apart": "foreach ($l as [$a, $b]) { if (!$a && $b) { $x = extension_loaded('gd'); } }" * 3_000,
    "comments that nothing ends": "imagecreate(1, 1); " + "/*a" * 300_000,
    "strings that nothing ends": "imagecreate(1, 1); " + "'\\" * 300_000,
    "names of a megabyte": f"use {'as' * 300_000} as b; ${'a' * 900_000} = extension_loaded('gd'); "
    f"${'ext' * 300_000} = ['gd', 'curl']; {'requir' * 100_000}('mysql', 'memory_limit');",
    "lists filled up": "$l = array_pad([], 1099511627776, 'gd'); $s = str_repeat('gd', 1099511627776);"
    "foreach (array_chunk($l, 1) as [$e]) { if (!extension_loaded($e)) exit; }",
    "forms": "mb_substr($a, 1);?>" + "<input name=MAX_FILE_SIZE " * 20_000 + "value=" * 100_000,
}


DOCUMENTS: dict[str, str] = {
    "a title": "# a" + " " * 240_000 + "x\n",
    "a table": "a | b\n" + " " * 240_000 + "|x\n",
    "dashes of a table": "a | b\n|" + "-" * 240_000 + "x\n",
    "rows": "# a\n" + "<tr>" * 60_000,
    "examples": "# a\n" + "```php\n" * 30_000,
    "tables of releases": "a|PHP\n-|-\n" * 20_000 + "1|8.1\n" * 20_000,
    "rows of levels": "|PHP\n-|-\n" + "minimum|" + " " * 240_000 + "8.1\n",
    "dots": "a " + "." * 240_000 + "\n",
    "pictures": "![a](https://a.example/badge/php-" * 8_000,
    "references": ".. _a: b\n" + "_" * 240_000 + "x\n",
    "what is asked": "a" + " " * 240_000 + "requires\n\n- a\n",
}


@pytest.mark.parametrize("case", CODE)
def test_code_as_nobody_writes_it(tmp_path: Path, case: str) -> None:
    (tmp_path / "app").mkdir()
    (tmp_path / "app/a.php").write_text("<?php\n" + CODE[case])
    run("derive", tmp_path / "app", "--fresh")


def test_answers_that_take_long_in_many_files(tmp_path: Path) -> None:
    for number in range(400):
        lists = "".join(
            f"${name} = array_fill(0, 399, ['n' => extension_loaded('gd'), 'of' => [{number}, 2, '{name}']]);"
            for name in "lk"
        )
        code = f"<?php\n{lists} $q{number} = array_intersect($l, $k); if ($q{number}) exit;\n"
        (tmp_path / f"check{number}.php").write_text(code + "// a line\n" * 700)
    assert "seconds of reading" in run("derive", tmp_path, "--fresh").err


def test_a_directory_of_a_gigabyte(tmp_path: Path) -> None:
    body = (
        b"<?php\nif (extension_loaded('gd')) { imagecreate(1, 1); }\n" + b"// nothing here\n$a = [1, 2, 'x'];\n" * 8000
    )
    for number in range(1024**3 // len(body)):
        folder = tmp_path / f"app/{number % 50}"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"{number}.php").write_bytes(body)
    done = run("derive", tmp_path / "app", "--fresh")
    assert "larger than any application" in done.err


def test_manifests_without_end(tmp_path: Path) -> None:
    many = ",".join(f'"ext-e{n}":"*"' for n in range(200_000))
    (tmp_path / "composer.json").write_text('{"name":"x/y","require":{' + many + "}}")
    (tmp_path / "composer.lock").write_text(
        '{"packages":['
        + ",".join(f'{{"name":"a/b{n}","require":{{"php":">=5.{n % 9}"}}}}' for n in range(60_000))
        + "]}"
    )
    (tmp_path / "package.xml").write_text("<package>" + "<a>" * 2_000_000)
    run("derive", tmp_path, "--fresh")


@pytest.mark.parametrize("case", DOCUMENTS)
def test_documents_as_nobody_writes_them(tmp_path: Path, case: str) -> None:
    app = tmp_path / "app"
    app.mkdir()
    (app / "index.php").write_text("<?php echo curl_version();")
    (app / "README.md").write_text(DOCUMENTS[case])
    (app / "a.spec").write_text(f"Requires: php-gd{' ' * 200_000}x, {'<' * 200_000} {'(' * 200_000}\n")
    assert "curl" in run("derive", app, "--fresh").out
