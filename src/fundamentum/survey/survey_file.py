"""A survey as a file: ``*.survey.json``, written and read within bounds."""

from typing import Final

import msgspec

from fundamentum.errors import InputError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.survey import FORMAT, Survey

MAX_SURVEY: Final = 48 * 1024 * 1024
"""Bytes of a survey file; that of a server with 500 pools of its own has half of that."""
MAX_VALUES: Final = 600_000
MAX_TEXTS: Final = 2_500_000
"""Values and texts in a survey file: either takes many times the memory of what it is written with."""
_ORIGIN: Final = lazy_regex(rb'\[\n *("(?:[^"\\\n]|\\.)*"),\n *(\d+)\n *\]')
"""A file and a line in it, spread over four lines."""


class _Format(msgspec.Struct):
    """The beginning of a survey of any version."""

    format: int


def written(survey: Survey) -> bytes:
    """The survey as the bytes of a ``*.survey.json`` file."""
    text = msgspec.json.format(msgspec.json.encode(survey), indent=1)
    return _ORIGIN.sub(rb"[\1, \2]", text) + b"\n"


def read(data: bytes, where: str) -> Survey:
    """A survey from the bytes of a file; a clear error if it is none."""
    if len(data) > MAX_SURVEY or data.count(b"{") > MAX_VALUES or data.count(b'"') > 2 * MAX_TEXTS:
        raise InputError(where, f"larger than any survey ({MAX_SURVEY >> 20} MiB, {MAX_VALUES:,} values): refused")
    try:
        known = msgspec.json.decode(data, type=_Format).format
        if known != FORMAT:
            raise InputError(where, _other_format(known))
        survey = msgspec.json.decode(data, type=Survey)
    except msgspec.ValidationError as error:
        raise InputError(where, f"not a survey of this program: {_in_words(str(error))}") from error
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise InputError(where, f"not JSON: {error}") from error
    return survey


def _other_format(number: int) -> str:
    """Why a file of another format is refused."""
    age = "an older" if number < FORMAT else "a newer"
    return f"survey format {number}, of {age} version of this program, which reads format {FORMAT}: survey it again"


def _in_words(message: str) -> str:
    """The library's message, a pattern that a text breaks in words."""
    what, place, where = message.partition(" - at ")
    if what.startswith("Expected `str` matching regex"):
        what = "a text that cannot stand there: control characters, or what is no name, version or path"
    return what + place + where
