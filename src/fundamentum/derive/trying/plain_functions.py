"""PHP's functions of texts, numbers and files, and those that call others."""

import json
import posixpath
import re
from collections.abc import Callable
from typing import Any, Final

from fundamentum.catalog.quantity import quantity
from fundamentum.derive.beside.requirement_files import table_in
from fundamentum.derive.php_source.functions import FUNCTIONS
from fundamentum.derive.statements.requirement_names import of_an_installer
from fundamentum.derive.trying.builtins import BUILTINS, Builtin, array, bounded, named, of_scalars, simple
from fundamentum.derive.trying.comparing import number, written
from fundamentum.derive.trying.directories import HERE, asked_as
from fundamentum.derive.trying.machine import Given, Machine
from fundamentum.derive.trying.operators import power
from fundamentum.derive.trying.values import (
    UNKNOWN,
    Array,
    Closure,
    Instance,
    Loaded,
    Text,
    Unknown,
    as_key,
    lifted,
    plain,
    truth,
)

MAX_MEMBERS: Final = 400
MAX_DEPTH: Final = 8


def _of_known(function: Callable[..., Any]) -> Builtin:
    """A function of scalars that are known."""
    return lambda _, given: lifted(lambda *values: bounded(function(*map(plain, values))), *given.values)


def _is(question: Callable[[Any], bool]) -> Builtin:
    """A question to one value."""
    return lambda _, given: lifted(question, given.at(0))


def _place(function: Callable[[str, str], int]) -> Builtin:
    def found(subject: Any, part: Any, *_: Any) -> Any:
        at = function(written(subject), written(part))
        return at if at >= 0 else False

    return _of_known(found)


def _lowered(value: Any) -> Any:
    told = written(value).lower()
    return Text.at(told, value.part) if isinstance(value, Text) else told


def _letters(text: Any, other: Any) -> int:
    left, right = written(text).lower(), written(other).lower()
    return (left > right) - (left < right)


def _extreme(name: str) -> Builtin:
    """``max`` and ``min``, of a list or of what they are given."""

    def called(*values: Any) -> Any:
        of = array(values[0]).values() if len(values) == 1 else values
        return FUNCTIONS[name](*map(simple, of))

    return lambda _, given: lifted(called, *given.values)


def _same(_: Machine, given: Given) -> Any:
    """A text that is only shown otherwise."""
    return given.at(0) if isinstance(given.at(0), (str, Loaded)) else UNKNOWN


_SHOWING: Final = (
    "ucfirst lcfirst ucwords htmlspecialchars htmlentities escapeshellarg escapeshellcmd nl2br str_pad _ "
    "__ gettext t esc_html esc_html__ _e trans lang mb_strtolower mb_convert_case realpath".split()
)
_DONE: Final = (
    "printf print_r var_dump error_log header http_response_code ob_start flush fwrite fputs session_start "
    "error_reporting set_error_handler".split()
)
BUILTINS.update(
    {
        **dict.fromkeys(_SHOWING, _same),
        **dict.fromkeys(_DONE, lambda _, __: True),
        "stripos": _place(lambda subject, part: subject.lower().find(part.lower())),
        "strrpos": _place(lambda subject, part: subject.rfind(part)),
        "str_ends_with": _of_known(lambda subject, part: written(subject).endswith(written(part))),
        "str_contains": _of_known(lambda subject, part: written(part) in written(subject)),
        "strcasecmp": _of_known(_letters),
        "strtolower": lambda machine, given: (
            given.at(0) if isinstance(given.at(0), Loaded) else lifted(_lowered, given.at(0))
        ),
        "ctype_digit": _of_known(lambda value: isinstance(value, str) and value.isdigit()),
        "ctype_alpha": _of_known(lambda value: isinstance(value, str) and value.isalpha()),
        "decoct": _of_known(lambda value: f"{int(number(value)):o}"),
        "octdec": _of_known(lambda value: int(written(value), 8)),
        "abs": _of_known(lambda value: abs(number(value))),
        "ceil": _of_known(lambda value: float(-(-number(value) // 1))),
        "pow": _of_known(lambda left, other: power(number(left), number(other))),
        "max": _extreme("max"),
        "min": _extreme("min"),
        "range": _of_known(lambda first, last, *_: Array.of(range(first, min(last, first + 100) + 1))),
        "ini_parse_quantity": _of_known(lambda value: quantity(written(value)).number),
        "filter_var": lambda machine, given: of_scalars(FUNCTIONS["filter_var"])(machine, Given.of(given.at(0))),
        "basename": _of_known(lambda path, end="": posixpath.basename(written(path)).removesuffix(written(end))),
        **dict.fromkeys(
            ("is_array", "is_iterable", "is_countable"), _is(lambda value: isinstance(value, (Array, Loaded)))
        ),
        "is_string": _is(lambda value: isinstance(value, str)),
        "is_bool": _is(lambda value: isinstance(value, bool)),
        "is_null": _is(lambda value: value is None),
        "is_int": _is(lambda value: type(value) is int),
        "is_numeric": _is(lambda value: re.fullmatch(r"\s*-?\d+(\.\d+)?", written(value)) is not None),
        "is_object": _is(lambda value: isinstance(value, (Instance, Closure))),
        "call_user_func": lambda machine, given: machine.call_value(given.at(0), Given.of(*given.values[1:])),
        **dict.fromkeys(("serialize", "unserialize", "igbinary_serialize"), lambda _, given: given.at(0)),
        "dl": lambda _, __: False,
    }
)


@named("call_user_func_array")
def _called_with(machine: Machine, given: Given) -> Any:
    values = given.at(1)
    return machine.call_value(given.at(0), Given.of(*values.values())) if isinstance(values, Array) else UNKNOWN


@named("explode", "preg_split", "str_getcsv", "mb_split")
def _split(_: Machine, given: Given) -> Any:
    subject = given.at(0 if len(given.values) == 1 else 1)
    if isinstance(subject, Loaded):
        return subject
    sign = given.at(0) if len(given.values) > 1 else ","
    if isinstance(sign, str) and len(sign) > 2 and isinstance(subject, str):  # a pattern
        return Array.of(part for part in re.split(r"[\s,;|:]+", subject) if part)
    if not isinstance(sign, str) or not isinstance(subject, str) or not sign:
        return UNKNOWN
    most = given.at(2)
    return Array.of(subject.split(sign, most - 1 if isinstance(most, int) and most > 0 else -1))


@named("dirname")
def _dirname(_: Machine, given: Given) -> Any:
    def above(path: Any, levels: Any = 1) -> Any:
        told = written(path)
        for _ in range(min(int(number(levels)), 20)):
            told = posixpath.dirname(told)
        return told

    return lifted(above, *given.values[:2])


@named("json_decode")
def _json(machine: Machine, given: Given) -> Any:
    def decoded(text: Any) -> Any:
        return from_table(json.loads(written(text)))

    told = lifted(decoded, given.at(0))
    as_table = truth(given.at(1, "associative")) or "ASSOC" in machine.place.text
    return told if as_table else _as_objects(machine, told)


def _as_objects(machine: Machine, value: Any) -> Any:
    """Tables with names as objects, at each depth."""
    if not isinstance(value, Array):
        return value
    inner = Array({key: _as_objects(machine, item) for key, item in value.items.items()})
    return machine.as_object(inner) if any(isinstance(key, str) for key in inner.items) else inner


def from_table(value: Any, depth: int = 0) -> Any:
    """A table of JSON or the like as PHP has it."""
    if isinstance(value, dict) and depth < MAX_DEPTH:
        return Array({as_key(key): from_table(member, depth + 1) for key, member in list(value.items())[:MAX_MEMBERS]})
    if isinstance(value, list) and depth < MAX_DEPTH:
        return Array.of(from_table(member, depth + 1) for member in value[:MAX_MEMBERS])
    return value if isinstance(value, (bool, int, float, str, type(None))) else UNKNOWN


@named("file_get_contents")
def _contents(machine: Machine, given: Given) -> Any:
    path = given.at(0)
    return machine.program.text(machine, path) if isinstance(path, str) else UNKNOWN


@named("file")
def _lines(machine: Machine, given: Given) -> Any:
    """The lines of a file, without their ends: those who look at them take these off."""
    told = _contents(machine, given)
    return Array.of(told.splitlines()[:MAX_MEMBERS]) if isinstance(told, str) else UNKNOWN


@named("base_path", "storage_path", "public_path", "root_path")
def _helped(machine: Machine, given: Given) -> Any:
    """A path as helpers of frameworks make it: ``storage_path('logs')``"""
    function = machine.place.get("function")
    named = re.search(r"(storage|public)_path$", function.text) if function is not None else None
    inside = given.at(0) if given.values else ""
    parts = (HERE, named[1] if named is not None else "", inside.lstrip("/") if isinstance(inside, str) else "")
    return "/".join(filter(None, parts)) if isinstance(inside, str) else UNKNOWN


@named("getcwd")
def _working_directory(machine: Machine, _: Given) -> Any:
    """That of the page which is asked for."""
    entry = machine.frames[0]
    return f"{HERE}/{posixpath.dirname(entry.code.path)}".rstrip("/") if entry.part is None else UNKNOWN


@named("is_dir")
def _directory(machine: Machine, given: Given) -> Any:
    """What the application came with is there; what else is there is not known, nor whether an installer still is."""
    path = asked_as(given.at(0), None).strip("/")
    return True if path and not of_an_installer(f"{path}/x") and machine.program.has_directory(path) else UNKNOWN


@named("parse_ini_file", "yaml_parse_file")
def _settings(machine: Machine, given: Given) -> Any:
    path = given.at(0)
    told = from_table(machine.program.table(machine, path)) if isinstance(path, str) else UNKNOWN
    return _sections(told, given) if "ini" in machine.place.text else told


@named("parse_ini_string")
def _settings_written_out(_: Machine, given: Given) -> Any:
    written_out = given.at(0)
    if not isinstance(written_out, str):
        return UNKNOWN
    try:
        return _sections(from_table(table_in(written_out.encode("utf-8", "replace"), ".ini")), given)
    except ValueError:
        return UNKNOWN


def _sections(told: Any, given: Given) -> Any:
    """The settings of an INI file, in their sections if that is asked for."""
    if not isinstance(told, Array) or truth(given.at(1, "process_sections")):
        return told
    php_array = Array()
    for key, value in told.items.items():
        for inner, member in value.items.items() if isinstance(value, Array) else [(key, value)]:
            php_array = php_array.with_item(inner, member)
    return php_array


@named("constant")
def _constant(machine: Machine, given: Given) -> Any:
    name = given.at(0)
    return machine.constant(name, machine.place) if isinstance(name, str) else UNKNOWN


_SKIPS: Final = re.compile(r"skip|ignore|force|disable|no_", re.I)


@named("getenv")
def _environment(_: Machine, given: Given) -> Any:
    """What nobody sets lets nothing be skipped."""
    name = given.at(0)
    return False if isinstance(name, str) and _SKIPS.search(name) else UNKNOWN


@named("env")
def _environment_or(_: Machine, given: Given) -> Any:
    """``env('FILES', 'data/files')``: what counts where nobody sets it."""
    return given.at(1, "default") if len(given.values) > 1 else UNKNOWN


def _comparing(name: str) -> Builtin:
    """A function that compares versions, among other things."""

    def compared(machine: Machine, given: Given) -> Any:
        if any(isinstance(value, Unknown) for value in given.values[:3]):
            machine.world.opened(machine)
        machine.world.looks.held_against(given.at(0), given.at(1))
        return of_scalars(FUNCTIONS[name])(machine, given)

    return compared


BUILTINS.update({name: _comparing(name) for name in ("version_compare", "strnatcmp", "strnatcasecmp")})
