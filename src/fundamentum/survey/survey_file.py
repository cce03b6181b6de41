"""A survey as a file: ``*.survey.json``, written and read within bounds."""

import msgspec

from fundamentum.errors import InputError
from fundamentum.model.survey import Survey

FORMAT = 1


MAX_SURVEY = 48 * 1024 * 1024
"""Bytes of a survey file; that of a server with 500 pools of its own has half of that."""


MAX_VALUES = 600_000


MAX_TEXTS = 2_500_000
"""Values and texts in a survey file: either takes many times the memory of what it is written with."""


def written(survey: Survey) -> bytes:
    """The survey as the bytes of a ``*.survey.json`` file."""
    return msgspec.json.format(msgspec.json.encode(survey), indent=1) + b"\n"


def read(data: bytes, where: str) -> Survey:
    """A survey from the bytes of a file; a clear error if it is none."""
    if len(data) > MAX_SURVEY or data.count(b"{") > MAX_VALUES or data.count(b'"') > 2 * MAX_TEXTS:
        raise InputError(where, f"larger than any survey ({MAX_SURVEY >> 20} MiB, {MAX_VALUES:,} values): refused")
    try:
        found = msgspec.json.decode(data, type=Survey)
    except msgspec.ValidationError as error:
        raise InputError(where, f"not a survey of this program: {_in_words(str(error))}") from error
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise InputError(where, f"not JSON: {error}") from error
    if found.format != FORMAT:
        raise InputError(where, f"survey format {found.format}; this program reads format {FORMAT}")
    return found


def _in_words(message: str) -> str:
    """The library's message, a pattern that a text breaks in words."""
    what, place, where = message.partition(" - at ")
    if what.startswith("Expected `str` matching regex"):
        what = "a text that cannot stand there: control characters, or what is no name, version or path"
    return what + place + where
