"""Which scripts are for the command line alone, by how they refuse pages."""

import pytest

from fundamentum.derive.weighing.command_line import refuses_pages

REFUSING = (
    "<?php if (PHP_SAPI !== 'cli') { exit; }",
    "<?php\nif (php_sapi_name() != 'cli') {\n  echo 'x';\n  exit(1);\n}",
    "<?php\n(PHP_SAPI !== 'cli' || isset($_SERVER['HTTP_USER_AGENT'])) && die('cli only');",
    "if (php_sapi_name() !== 'cli' && PHP_SAPI !== 'phpdbg') die();",
    "if (substr(PHP_SAPI, 0, 3) !== 'cli') { fwrite(STDERR, \"no {$x}\"); exit(1);}",
    "PHP_SAPI == 'cli' or die('x');",
    "'cli' === PHP_SAPI || exit;",
    "<?php\nif (PHP_SAPI !== 'cli')\n    return;",
    "if (!(PHP_SAPI === 'cli')) exit;",
    "if (!in_array(PHP_SAPI, ['cli', 'phpdbg'], true)) { exit; }",
    "if (strpos(PHP_SAPI, 'cli') !== 0) die;",
    "function on_a_terminal() { return PHP_SAPI === 'cli'; } if (!on_a_terminal()) { exit; }",
    "define('TERMINAL', PHP_SAPI === 'cli'); if (!TERMINAL) { die('no'); }",
    "if (isset($_SERVER['REQUEST_METHOD'])) { die('command line only'); }",
    "if (!empty($_SERVER['REMOTE_ADDR'])) { exit; }",
    "if (!isset($_SERVER['argc'])) { exit(1); }",
)
NOT_REFUSING = (
    'if (count($errors) > 0 && php_sapi_name() != "cli") { die; }',
    "if (PHP_SAPI !== 'cli') { session_start(); }\n if ($x) { die(); }",
    "if (PHP_SAPI !== 'cli') { header('x'); }\n die();",
    "function web() { if (PHP_SAPI !== 'cli') { return true; } return false; } web(); echo 'night';",
    "$web = PHP_SAPI !== 'cli'; if (!$x) die();",
    "if ($_SERVER['REQUEST_METHOD'] !== 'POST') { http_response_code(405); exit; }",
    "if ($_SERVER['REMOTE_ADDR'] !== '127.0.0.1') { exit('not from here'); }",
    "if (PHP_SAPI === 'cli') { exit('a page'); } echo 'night';",
    "if (!isset($_SERVER['HTTP_HOST'])) { $_SERVER['HTTP_HOST'] = 'localhost'; } echo 'night'; exit;",
)


@pytest.mark.parametrize("code", REFUSING)
def test_scripts_that_refuse_pages(code: str) -> None:
    assert refuses_pages(f"<?php {code.removeprefix('<?php')}".encode())


@pytest.mark.parametrize("code", NOT_REFUSING)
def test_what_does_something_else_for_pages_refuses_none(code: str) -> None:
    assert not refuses_pages(f"<?php {code}".encode())
