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
)
NOT_REFUSING = (
    'if (count($errors) > 0 && php_sapi_name() != "cli") { die; }',
    "if (PHP_SAPI !== 'cli') { session_start(); }\n if ($x) { die(); }",
    "if (PHP_SAPI !== 'cli') { header('x'); }\n die();",
    "  if (PHP_SAPI !== 'cli') { return false; }",
    "$web = PHP_SAPI !== 'cli'; if (!$x) die();",
)


@pytest.mark.parametrize("code", REFUSING)
def test_scripts_that_refuse_pages(code: str) -> None:
    assert refuses_pages(code.encode())


@pytest.mark.parametrize("code", NOT_REFUSING)
def test_what_does_something_else_for_pages_refuses_none(code: str) -> None:
    assert not refuses_pages(code.encode())
