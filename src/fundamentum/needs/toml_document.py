"""A TOML document that may come from anybody, read in bounded time; an error tells the line and the column."""

import re
import tomllib
from typing import Any, Final

from fundamentum.entries import entry
from fundamentum.errors import InputError
from fundamentum.lazy_regex import lazy_regex

MAX_LINES: Final = 20_000
MAX_LINE: Final = 20_000
"""Characters of one line."""
MAX_VALUES: Final = 5_000
"""Keys, and values of lists.  Of 195 applications of Debian's, what is derived has 150 at the most."""
_DEEP: Final = lazy_regex(
    r"""(?<![\w-])(?:[\w-]++[ \t]*+\.[ \t]*+){20}|(?:(?:"[^"\n]*+"|'[^'\n]*+')[ \t]*+\.[ \t]*+){20}"""
)
"""A key of more parts than any has: the library takes the square of their number."""


def document(text: str, where: str) -> dict[str, Any]:
    """The document in the text of a file called ``where``; an :class:`InputError` if it is none, or without end."""
    lines = text.splitlines()
    if len(lines) > MAX_LINES:
        raise InputError(where, f"more than {MAX_LINES:,} lines")
    for number, line in enumerate(lines, 1):
        if len(line) > MAX_LINE:
            raise InputError(where, f"a line of more than {MAX_LINE:,} characters", number)
        if deep := _DEEP.search(line) if "." in line else None:
            raise InputError(where, "nested too deeply", number, deep.start() + 1)
    try:
        parsed = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise _no_toml(lines, where, str(error)) from error
    except (RecursionError, ValueError) as error:  # a number of thousands of digits is the latter
        raise InputError(where, f"not TOML: {str(error)[:200] or 'nested too deeply'}") from error
    if _values(parsed) > MAX_VALUES:
        raise InputError(where, f"more than {MAX_VALUES:,} entries")
    return parsed


def _no_toml(lines: list[str], where: str, message: str) -> InputError:
    match = re.search(r" \(at line (\d+), column (\d+)\)", message)
    line, column = (int(match[1]), int(match[2])) if match else (max(len(lines), 1), None)
    what = re.sub(r" \(at (?:line.*|end of document)\)", "", message)
    shown = lines[line - 1] if line <= len(lines) else ""
    # What may have been meant is loaded only where something is wrong.
    hint = entry("fundamentum.needs", "spelling").of_syntax(shown)
    return InputError(where, f"not TOML: {what}{hint}", line, column)


def _values(parsed: dict[str, Any]) -> int:
    """How many keys and values of lists there are, as far as they count."""
    number = 0
    todo: list[Any] = [parsed]
    while todo and number <= MAX_VALUES:
        value = todo.pop()
        number += len(value)
        todo += [
            inner for inner in (value.values() if isinstance(value, dict) else value) if isinstance(inner, dict | list)
        ]
    return number
