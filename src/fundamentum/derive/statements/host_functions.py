"""Functions that are in every PHP and that hosts switch off: a program asks for one as it does for an extension.

``if (!function_exists('proc_open')) exit;``, ``in_array('exec', explode(',', ini_get('disable_functions')))``
"""

from collections.abc import Iterable, Iterator
from typing import Final, Literal

from fundamentum.derive.families import SWITCHED_OFF
from fundamentum.derive.php_source.facts import Check, Wish

_DEMANDS: Final = frozenset({"exits", "leaves", "throws", "reports", "listed-required"})
_ENDING: Final = "()"
OF_DIRECTORY: Final = "/"
"""The same of a directory that a program asks about: stands behind its path; no extension is called so."""
OF_PROGRAM: Final = "$"
"""The same of a program that it starts, or looks for."""

ANY_OF: Final = " | "
"""Between the names of several programs of which any one will do."""


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
            wishes += [] if check.command_line else _of_host(check)
        elif not check.extension.endswith(_ENDING):
            checks.append(check)
        elif check.outcome in (*_DEMANDS, "warns", "goes-on"):
            name, stops = check.extension.removesuffix(_ENDING), check.outcome in _DEMANDS
            wishes.append(Wish("function", name, "", check.line, check.what, stops, check.around))
    return tuple(checks), tuple(wishes)


def _of_host(check: Check) -> Iterator[Wish]:
    """The wish for a directory or a program; where any one of several programs will do, for these together, too."""
    kind: Literal["directory", "command"] = "directory" if check.extension.endswith(OF_DIRECTORY) else "command"
    stops = check.outcome in _DEMANDS
    yield Wish(kind, check.extension[:-1], "", check.line, check.what, stops and not check.among, check.around)
    if stops and check.among and all(name.endswith(OF_PROGRAM) for name in check.among):
        names = ANY_OF.join(sorted({name.removesuffix(OF_PROGRAM) for name in check.among}))
        yield Wish(kind, names, "", check.line, check.what, stops, check.around)
