"""Lists of what a server has that are looked at as one text: ``strpos(ini_get('disable_functions'), 'exec')``."""

import re
from typing import Any, Final

from fundamentum.derive.trying.builtins import BUILTINS, Builtin, builtin
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.values import UNKNOWN, Loaded, Text, lifted

_LOOKS: Final = ("strpos", "stripos", "str_contains", "strstr", "stristr", "substr_count", "mb_strpos")
_AROUND: Final = " ,;|:\t\r\n"
_PATTERN: Final = re.compile(r"^\W*(?:\\[bsWw]\W*)?(\w+?)(?:\\[bsWw]\W*)?\W*[imux]*$")


def _held(machine: Machine, extension: Loaded, name: Any) -> Any:
    if not isinstance(name, str):
        return machine.world.held(machine, extension, name)
    plain = name.strip(_AROUND)
    return machine.world.held(machine, extension, Text.at(plain, name.part) if isinstance(name, Text) else plain)


def _looking(otherwise: Builtin | None) -> Builtin:
    def looked(machine: Machine, given: Given) -> Any:
        source = given.at(0)
        if isinstance(source, Loaded):
            return _held(machine, source, given.at(1))
        return otherwise(machine, given) if otherwise is not None else UNKNOWN

    return looked


def _matching(otherwise: Builtin) -> Builtin:
    def matched(machine: Machine, given: Given) -> Any:
        pattern, source = given.at(0), given.at(1)
        if not isinstance(source, Loaded):
            return otherwise(machine, given)
        match = _PATTERN.match(pattern) if isinstance(pattern, str) else None
        return _held(machine, source, match[1]) if match else UNKNOWN

    return matched


def _comparing(otherwise: Builtin | None) -> Builtin:
    def compared(machine: Machine, given: Given) -> Any:
        for source, name in ((given.at(0), given.at(1)), (given.at(1), given.at(0))):
            if isinstance(source, Loaded):
                return lifted(lambda held: 0 if held else 1, _held(machine, source, name))
        return otherwise(machine, given) if otherwise is not None else UNKNOWN

    return compared


def _imploding(otherwise: Builtin) -> Builtin:
    return lambda machine, given: (
        next((value for value in given.values if isinstance(value, Loaded)), None) or otherwise(machine, given)
    )


BUILTINS.update({name: _looking(builtin(name)) for name in _LOOKS})
BUILTINS["preg_match"] = _matching(BUILTINS["preg_match"])
BUILTINS["preg_grep"] = _matching(BUILTINS.get("preg_grep", lambda *_: UNKNOWN))
BUILTINS.update({name: _comparing(builtin(name)) for name in ("strcasecmp", "strcmp")})
BUILTINS.update({name: _imploding(BUILTINS[name]) for name in ("implode", "join")})
