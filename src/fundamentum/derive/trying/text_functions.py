"""PHP's functions that take a text apart, put one together, or write a value as one."""

import json
from collections.abc import Callable
from typing import Any, Final

from fundamentum.derive.php_source.functions import FUNCTIONS
from fundamentum.derive.trying.builtins import BUILTINS, Builtin, bounded, named, of_scalars, simple
from fundamentum.derive.trying.comparing import number, written
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.values import UNKNOWN, Array, Instance, Loaded, Text, Unknown, lifted, truth

_BLANKS: Final = " \t\n\r\0\x0b"
MAX_PARTS: Final = 400


def _stripped(strip: Callable[[str, str], str]) -> Builtin:
    """``trim`` and its like: where the text stands in the program is kept."""

    def of_one(value: Any, signs: Any = _BLANKS) -> Any:
        told = strip(written(value), written(signs))
        return Text.at(told, value.part) if isinstance(value, Text) else told

    return lambda _, given: given.at(0) if isinstance(given.at(0), Loaded) else lifted(of_one, *given.values[:2])


def _parts(subject: Any, size: Any = 1) -> Array:
    text, step = written(subject), max(int(number(size)), 1)
    return Array.of(text[at : at + step] for at in range(0, min(len(text), MAX_PARTS * step), step))


def _repeated(subject: Any, times: Any) -> Any:
    text, most = written(subject), int(number(times))
    return UNKNOWN if len(text) * most > MAX_PARTS else text * most


def _exported(value: Any) -> str:
    """A value as PHP writes it in source."""
    if isinstance(value, (bool, type(None))):
        return {True: "true", False: "false", None: "NULL"}[value]
    return f"'{value}'" if isinstance(value, str) else written(value)


@named("var_export")
def _shown(_: Machine, given: Given) -> Any:
    return lifted(_exported, given.at(0)) if truth(given.at(1, "return")) else None


def _as_table(value: Any) -> Any:
    """A value as JSON has it; ``ValueError`` where that is not known."""
    if isinstance(value, (Unknown, Instance)) or (isinstance(value, Array) and value.loose):
        raise ValueError
    if not isinstance(value, Array):
        return simple(value) if value is not None else None
    listed = list(value.items) == list(range(len(value.items)))
    members = {str(key): _as_table(member) for key, member in list(value.items.items())[:MAX_PARTS]}
    return list(members.values()) if listed else members


@named("json_encode")
def _as_json(_: Machine, given: Given) -> Any:
    return lifted(lambda value: bounded(json.dumps(_as_table(value), separators=(",", ":"))), given.at(0))


@named("vsprintf")
def _filled_in(machine: Machine, given: Given) -> Any:
    values = given.at(1)
    if not isinstance(values, Array) or values.loose:
        return UNKNOWN
    return of_scalars(FUNCTIONS["sprintf"])(machine, Given.of(given.at(0), *values.values()))


BUILTINS.update(
    {
        "trim": _stripped(str.strip),
        "ltrim": _stripped(str.lstrip),
        **dict.fromkeys(("rtrim", "chop"), _stripped(str.rstrip)),
        **dict.fromkeys(("str_split", "mb_str_split"), lambda _, given: lifted(_parts, *given.values[:2])),
        "str_repeat": lambda _, given: lifted(_repeated, *given.values[:2]),
        "strrev": lambda _, given: lifted(lambda value: written(value)[::-1], given.at(0)),
    }
)
