"""What counts as a use of an extension, and what only looks like one."""

import pytest

from fundamentum.derive.php_source.encoded import loader_of
from fundamentum.derive.reading.reader import read_source

CASES = [  # PHP, the uses it holds as "extension guard"
    ("mb_strlen($x);", ["mbstring"]),
    ("MB_StrLen($x);", ["mbstring"]),
    ("\\mb_strlen($x);", ["mbstring"]),
    ("namespace A; mb_strlen($x);", ["mbstring"]),
    ("namespace A; namespace\\mb_strlen($x);", []),
    ("namespace A; B\\mb_strlen($x);", []),
    ("namespace A; use function Other\\curl_init; curl_init();", []),
    ("namespace A; use function curl_init; curl_init();", ["curl"]),
    ("use function mb_strlen as len; len($x);", ["mbstring"]),
    ("$archive->gzopen('x');", []),
    ("Archive::gzopen('x');", []),
    ("class A { function gzopen() {} }", []),
    ("$f?->gzopen();", []),
    ("/* gzopen() */ // gzopen()\n# gzopen()\n", []),
    ("$x = 'gzopen()'; $y = \"gzopen($x)\";", []),
    ("$x = <<<END\n  gzopen()\n  END;", []),
    ("$x = <<<'END'\ngzopen()\nEND;\ncurl_init();", ["curl"]),
    ("$gzopen = 1; $gzopen();", []),
    ("$f = 'gzopen'; $f('x');", ["zlib"]),
    ("array_map('mb_strtolower', $a);", ["mbstring"]),
    ("call_user_func('gzopen', 'x');", ["zlib"]),
    ("ob_start('ob_gzhandler');", ["zlib"]),
    ("new Imagick();", ["imagick"]),
    ("namespace A; new Imagick();", []),
    ("namespace A; new \\Imagick();", ["imagick"]),
    ("namespace A; use Imagick; new Imagick();", ["imagick"]),
    ("namespace A; use Imagick as Picture; new Picture();", ["imagick"]),
    ("namespace A; use {Imagick, PDO}; ", []),
    ("namespace A; use Other\\Imagick; new Imagick();", []),
    ("class A extends SoapClient {}", ["soap"]),
    ("class A implements \\SplObserver {}", []),
    ("function f(Imagick $x): ?Collator { return $x instanceof GMP; }", ["gmp weak"]),
    ("try { f(); } catch (SoapFault $e) {}", ["soap weak"]),
    ("echo Imagick::class;", ["imagick weak"]),
    ("echo CURLOPT_URL;", ["curl"]),
    ("f(curlopt_url: 1);", []),
    ("class A { const CURLOPT_URL = 1; } echo A::CURLOPT_URL;", []),
    ("#[Attr(LIBXML_NOENT)] class A {}", ["libxml"]),
    ("$f = static fn($x) => mb_strlen($x);", ["mbstring"]),
    ("$f = mb_strlen(...);", ["mbstring"]),
    ("if (function_exists('mb_strlen')) { mb_strlen($x); }", ["mbstring checked"]),
    ("if (!function_exists('mb_strlen')) { f(); } else { mb_strlen($x); }", ["mbstring checked"]),
    ("echo extension_loaded('gd') ? imagesx($i) : 0;", ["gd checked"]),
    ("$w = function_exists('imagesx') && imagesx($i);", ["gd checked"]),
    ("$has = extension_loaded('gd'); if ($has) { imagesx($i); }", ["gd checked"]),
    ("function f() { if (!extension_loaded('gd')) { return; } imagesx($i); }", ["gd checked"]),
    ("function f() { if (!extension_loaded('gd')) { throw new E; } imagesx($i); }", ["gd explained"]),
    ("class A { static function ok() { return extension_loaded('apcu'); } function g() { apcu_fetch(1); } }", ["apcu checked"]),
    ("try { sodium_add($x, $y); } catch (\\Throwable $e) {}", ["sodium caught"]),
    ("try { sodium_add($x, $y); } catch (RuntimeException $e) {}", ["sodium"]),
    ("switch ($kind) { case 'pgsql': pg_connect(''); }", ["pgsql chosen"]),
    ("if (function_exists('gmp_add')) { gmp_add(1, 2); } else { bcadd(1, 2); }", ["bcmath instead", "gmp checked"]),
    ("if (PHP_VERSION_ID < 80000) { xmlrpc_encode(1); }", ["xmlrpc version"]),
    ("new PDO('pgsql:host=x');", ["pdo", "pdo_pgsql"]),
    ("$dsn = 'sqlite:' . $file;", ["pdo_sqlite chosen"]),
    ("new PDO($dsn, $u, $p, [PDO::MYSQL_ATTR_INIT_COMMAND => '']);", ["pdo", "pdo_mysql"]),
    ("fopen('compress.zlib://x', 'r');", ["zlib"]),
    ("?><p>gzopen() isn't</p><?php mb_strlen($x) ?><p>curl_init()</p>", ["mbstring"]),
    ("?><?= mb_strlen($x) ?> don't <? gzopen('x'); ?>", ["mbstring", "zlib"]),
    ("mb_strlen($x); }}} class { function", ["mbstring"]),
    ("goto mb_strlen; mb_strlen:", []),
    ("ini_set('mbstring.language', 'uni'); ini_get('memory_limit');", ["mbstring weak"]),
    ("ini_get($name); ini_set();", []),
]  # fmt: skip


@pytest.mark.parametrize(("code", "uses"), CASES)
def test_a_use_is_what_php_itself_would_take_for_one(code: str, uses: list[str]) -> None:
    file_facts = read_source(f"<?php {code}".encode())
    told = {f"{use.extensions[0]} {use.guard or ('weak' if use.weak else '')}".strip() for use in file_facts.uses}
    assert sorted(told) == sorted(uses)


def test_other_encodings_and_broken_files_are_read_as_far_as_they_go() -> None:
    latin = "<?php // caf\xe9 \n$x = 'na\xefve'; mb_strlen($x);".encode("latin-1")
    assert [use.line for use in read_source(latin).uses] == [2]
    assert read_source(b"\xff\xfe\x00<?php mb_strlen($x);").uses
    assert read_source(b"<?php if (").broken
    assert read_source(b"\x00" * 5000 + b"<?php").uses == ()


CHECKS = [  # PHP, extension and outcome
    ("if (!extension_loaded('gd')) { die('no'); }", {("gd", "asked")}),
    ("function f() { if (!function_exists('imagesx')) { die; } }", {("gd", "asked")}),
    ("if (class_exists(Imagick::class)) { f(); }", {("imagick", "asked")}),
    ("if (defined('PDO::MYSQL_ATTR_INIT_COMMAND')) { f(); }", {("pdo_mysql", "asked")}),
    ("$required_extensions = ['xml', 'ldap', 'nosuch'];", {("xml", "listed-required"), ("ldap", "listed-required")}),
    ("$x = ['required_extensions' => ['xml', 'ldap']];", {("xml", "listed-required"), ("ldap", "listed-required")}),
    ("class A { const OPTIONAL_EXTENSIONS = ['intl' => 1, 'gd' => 2]; }", {("intl", "listed-recommended"), ("gd", "listed-recommended")}),
    ("$colours = ['xml', 'ldap'];", set()),
    ("$o->extension_loaded('gd');", set()),
    ("extension_loaded($name);", set()),
]  # fmt: skip


@pytest.mark.parametrize(("code", "checks"), CHECKS)
def test_a_check_names_the_extension(code: str, checks: set[tuple[str, str]]) -> None:
    assert {(check.extension, check.outcome) for check in read_source(f"<?php {code}".encode()).checks} == checks


def test_an_encoded_file_names_its_loader() -> None:
    stub = b"<?php if (!extension_loaded('Orrery Loader')) { die('encoded'); } exit; ?>\n"
    assert (
        loader_of(stub + b"QUJDREVGR0hJSktMTU5PUFFSU1RVVldYWVphYmNkZWZnaGlqa2xtbm9wcXJzdHV2d3h5ejAx\n" * 40)
        == "Orrery Loader"
    )
    assert loader_of(stub + bytes(range(256)) * 20) == "Orrery Loader"
    assert loader_of(stub + b"<?php function readable() { return 1; }\n" * 40) is None


WISHES = [  # PHP, what it wishes
    ("ini_set('memory_limit', '512M');", "setting memory_limit >= 512M"),
    ("@ini_set('max_execution_time', 300);", "setting max_execution_time >= 300"),
    ("set_time_limit(120);", "setting max_execution_time >= 120"),
    ("set_time_limit(0);", None),
    ("ini_set('memory_limit', -1);", None),
    ("exec('/usr/bin/convert -x ' . $f);", "function exec |command convert "),
    ("proc_open(sprintf('unzip %s', $f), $d, $p);", "function proc_open |command unzip "),
    ("$db->exec('convert');", None),
    ("exec('ls -l');", "function exec "),
    ("exec($command);", "function exec "),
    ("is_writable(__DIR__ . '/cache');", "directory ./cache "),
    ("mkdir(dirname(__FILE__) . '/tmp/x/');", "directory ./tmp/x "),
    ("mkdir('/etc/x');", None),
]


@pytest.mark.parametrize(("code", "wish"), WISHES)
def test_what_the_source_says_of_its_surroundings(code: str, wish: str | None) -> None:
    found = [f"{one.kind} {one.name} {one.value}" for one in read_source(f"<?php {code}".encode()).wishes]
    assert found == (wish.split("|") if wish else [])
