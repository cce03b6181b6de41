"""Functions that are in every PHP and that hosts switch off: a program asks for one as it does for an extension.

``if (!function_exists('proc_open')) exit;``, ``in_array('exec', explode(',', ini_get('disable_functions')))``
"""

from collections.abc import Iterable
from typing import Final, Literal

from fundamentum.derive.families import SWITCHED_OFF
from fundamentum.derive.php_source.facts import Check, Wish

_DEMANDS: Final = frozenset({"exits", "leaves", "throws", "reports", "listed-required"})
_ENDING: Final = "()"
OF_DIRECTORY: Final = "/"
"""The same of a directory that a program asks about: stands behind its path; no extension is called so."""
OF_PROGRAM: Final = "$"
"""The same of a program that it starts, or looks for."""


def stands_for(function: str) -> str:
    """What a check for such a function names in place of an extension, until it is a wish; empty: it is none."""
    name = function.strip().lower()
    return f"{name}{_ENDING}" if name in SWITCHED_OFF else ""


def is_of_host(name: str) -> bool:
    """Whether something that is asked for is a directory or a program, and nothing of PHP."""
    return name.endswith((OF_DIRECTORY, OF_PROGRAM))


def apart(told: Iterable[Check]) -> tuple[tuple[Check, ...], tuple[Wish, ...]]:
    """The checks for extensions; and those for such functions as wishes, as far as something comes of them."""
    checks: list[Check] = []
    wishes: list[Wish] = []
    for check in told:
        if is_of_host(check.extension):
            kind: Literal["directory", "command"] = "directory" if check.extension.endswith(OF_DIRECTORY) else "command"
            if not check.command_line:
                stops = check.outcome in _DEMANDS and not check.among
                wishes.append(Wish(kind, check.extension[:-1], "", check.line, check.what, stops, check.around))
        elif not check.extension.endswith(_ENDING):
            checks.append(check)
        elif check.outcome in (*_DEMANDS, "warns", "goes-on"):
            name, stops = check.extension.removesuffix(_ENDING), check.outcome in _DEMANDS
            wishes.append(Wish("function", name, "", check.line, check.what, stops, check.around))
    return tuple(checks), tuple(wishes)
