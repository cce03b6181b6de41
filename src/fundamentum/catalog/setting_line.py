"""How a line that sets a directive is written, in each kind of file, and the same line with another value.

Source: php.net, "The configuration file" and "How to change configuration settings"; Apache's documentation,
"Configuration files".
"""

import re
from collections.abc import Mapping
from typing import Final, Literal

from fundamentum.catalog import is_switch
from fundamentum.lazy_regex import lazy_regex

Syntax = Literal["ini", "module", "sent"]
"""``NAME = VALUE``; ``php_value NAME VALUE``; ``NAME=VALUE`` within a text that is sent along with a request."""

_PLAIN: Final = lazy_regex(r"[A-Za-z0-9._/-]+")
_INI: Final = r"(?P<head>\s*{name}\s*=\s*)(?P<value>\"[^\"]*\"|'[^']*'|[^;\"'\s][^;\"']*?|)(?P<tail>\s*(?:;.*)?\r?)"
_MODULE: Final = (
    r"(?P<head>\s*php_(?:admin_)?(?P<kind>value|flag)\s+\"?{name}\"?\s+)"
    r"(?P<value>\"[^\"\\]*\"|'[^'\\]*'|[^\s\"'\\]+)(?P<tail>\s*\r?)"
)
_SENT: Final = r"(?<![\w.])(?P<head>{name}\s*=\s*)(?P<value>\\?\"[^\"\\]*\\?\"|[^\s;\"'\\]*)"
_SWITCHES: Final = {
    **dict.fromkeys(("on", "yes", "true"), "1"),
    **dict.fromkeys(("off", "no", "false", "none", "null"), ""),
}
_SENDING: Final = lazy_regex(r"\s*(?:fastcgi_param|setenv)\s+(?:PHP_VALUE|PHP_ADMIN_VALUE)\s+[^#]*\r?", re.I)


def is_plain_line(line: str, syntax: Syntax, name: str) -> bool:
    """Whether a line sets this directive, once, and holds nothing else."""
    return _parts(line, syntax, name) is not None


def value_in(line: str, syntax: Syntax, name: str, value: str) -> tuple[int, int, str] | None:
    """Where the line has the value, from one character to before another, and what to write there for another one.

    None where that cannot be written there.
    """
    parts = _parts(line, syntax, name)
    if parts is None:
        return None
    text = _written(value, syntax, parts.groupdict().get("kind") == "flag")
    return None if text is None else (*parts.span("value"), text)


def with_value(line: str, syntax: Syntax, name: str, value: str) -> str | None:
    """The line with another value, everything else left as it is; None where that cannot be written there."""
    placed = value_in(line, syntax, name, value)
    return None if placed is None else line[: placed[0]] + placed[2] + line[placed[1] :]


def value_read(line: str, syntax: Syntax, name: str, constants: Mapping[str, str]) -> str:
    """The value that PHP takes from such a line, as ``ini_get`` has it: of ``On`` in an ini file, ``1``."""
    parts = _parts(line, syntax, name)
    if parts is None:
        return ""
    text = parts["value"].replace('\\"', '"') if syntax == "sent" else parts["value"]
    quoted = text[:1] in ("'", '"')
    text = text[1:-1] if quoted else text
    if syntax == "module":
        if parts["kind"].lower() == "flag":
            return "1" if text.lower() in ("on", "1") else "0"
        return "" if text.lower() == "none" else text
    return text if quoted else _SWITCHES.get(text.lower(), constants.get(text, text))


def in_a_word(name: str, value: str | None) -> str:
    """A directive's value for a person: of one that PHP shows as *On* or *Off*, ``Off`` where it holds nothing."""
    if value is None:
        return "not known"
    return value or ("Off" if is_switch(name) else "not set")


def ini_text(value: str) -> str | None:
    """The value as an ini file writes it, quoted where PHP would read it otherwise; None if it cannot be written."""
    if value == "" or all(c.isascii() and (c.isalnum() or c in "._/-") for c in value):
        return value
    if not value.isprintable():
        return None
    if "'" not in value:
        return f"'{value}'"
    return f'"{value}"' if not any(c in value for c in '"\\$') else None


def _parts(line: str, syntax: Syntax, name: str) -> "re.Match[str] | None":
    word = re.escape(name)
    if syntax == "ini":
        return re.fullmatch(_INI.format(name=word), line)
    if syntax == "module":
        return re.fullmatch(_MODULE.format(name=word), line, re.I)
    matches = list(re.finditer(_SENT.format(name=word), line)) if _SENDING.fullmatch(line) else []
    return matches[0] if len(matches) == 1 else None


def _written(value: str, syntax: Syntax, flag: bool) -> str | None:
    if syntax == "ini":
        return ini_text(value)
    if flag:
        return {"1": "on", "on": "on", "0": "off", "off": "off", "": "off"}.get(value.lower())
    if value == "":
        return "none" if syntax == "module" else None
    if _PLAIN.fullmatch(value):
        return value
    quotable = syntax == "module" and value.isprintable() and not any(c in value for c in '"\\$%')
    return f'"{value}"' if quotable else None
