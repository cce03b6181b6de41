"""Lines that set a directive, in each kind of file, with another value."""

import pytest

from fundamentum.catalog.setting_line import Syntax, ini_text, is_plain_line, value_read, with_value

LINES: list[tuple[str, Syntax, str, str | None]] = [  # line, syntax, new value of x, the line then
    ("x = 1", "ini", "2", "x = 2"),
    ("  x=1 ; c\r", "ini", "2", "  x=2 ; c\r"),
    ('x = "1 M"', "ini", "a b", "x = 'a b'"),
    ("x = 1", "ini", "it's", 'x = "it\'s"'),
    ("x = 1", "ini", 'it\'s "x"', None),
    ("x = ", "ini", "", "x = "),
    ("y = 1", "ini", "2", None),
    ("php_value x 1", "module", "2", "php_value x 2"),
    ("php_admin_value x 1", "module", "a b", 'php_admin_value x "a b"'),
    ("php_value x 1", "module", "", "php_value x none"),
    ("php_value x 1", "module", "%{x}", None),
    ("php_value x 'a b'", "module", "2", "php_value x 2"),
    ("php_flag x on", "module", "0", "php_flag x off"),
    ("php_flag x off", "module", "1", "php_flag x on"),
    ("php_flag x off", "module", "5", None),
    ('fastcgi_param PHP_VALUE "x=1";', "sent", "2", 'fastcgi_param PHP_VALUE "x=2";'),
    ('fastcgi_param PHP_VALUE "x=1 \\n y=3";', "sent", "2", 'fastcgi_param PHP_VALUE "x=2 \\n y=3";'),
    ('fastcgi_param PHP_VALUE "x=1 x=3";', "sent", "2", None),
    ('fastcgi_param PHP_VALUE "x=1";', "sent", "", None),
    ('fastcgi_param OTHER "x=1";', "sent", "2", None),
]


@pytest.mark.parametrize(("line", "syntax", "value", "then"), LINES)
def test_a_line_gets_another_value(line: str, syntax: Syntax, value: str, then: str | None) -> None:
    assert with_value(line, syntax, "x", value) == then
    assert is_plain_line(line, syntax, "x") or then is None


@pytest.mark.parametrize(
    ("value", "text"), [("1M", "1M"), ("", ""), ("a b", "'a b'"), ("a'b", '"a\'b"'), ("a'$", None), ("\n", None)]
)
def test_values_are_quoted_where_php_would_read_them_otherwise(value: str, text: str | None) -> None:
    assert ini_text(value) == text


READ: list[tuple[str, Syntax, str]] = [  # line, syntax, what ini_get has of x
    ("x = On", "ini", "1"),
    ("x = Off", "ini", ""),
    ("x = 'On'", "ini", "On"),
    ("x = E_ALL", "ini", "32767"),
    ("x = 'a b' ; c", "ini", "a b"),
    ('fastcgi_param PHP_VALUE "x=Off";', "sent", ""),
    ('SetEnv PHP_VALUE "x=\\"a b\\""', "sent", "a b"),
    ("php_value x On", "module", "On"),
    ("php_value x none", "module", ""),
    ("php_admin_value x 'a b'", "module", "a b"),
    ("php_flag x on", "module", "1"),
    ("php_admin_flag x off", "module", "0"),
]


@pytest.mark.parametrize(("line", "syntax", "value"), READ)
def test_what_php_takes_from_a_line(line: str, syntax: Syntax, value: str) -> None:
    assert value_read(line, syntax, "x", {"E_ALL": "32767"}) == value
