"""Files of accepted findings, ``*.accepted.toml``: what somebody has decided to live with, on record.

::

    format = 1
    [[accepted]]
    need = "extension:imap"       # as the finding names it; one of several alternatives will do
    reason = "no mail is fetched on this server"
    by = "Ida"
    until = 2027-03-01            # optional: from then on it counts as a gap again
"""

import re
from collections.abc import Iterable
from datetime import date
from pathlib import Path
from typing import Annotated, Final

import msgspec

from fundamentum.errors import InputError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.needs import Acceptance, Needs
from fundamentum.model.needs_value import Text
from fundamentum.needs.toml_document import document
from fundamentum.untrusted.files import read_named

FORMAT: Final = 1
SUFFIX: Final = ".accepted.toml"
MAX_SIZE: Final = 1024 * 1024
_HEADER: Final = lazy_regex(r"\s*\[\[\s*accepted\s*\]\]")
_NEED: Final = lazy_regex(r"php|[a-z-]+:[^\s|]+(?:\|[^\s|]+)*")


class Entry(msgspec.Struct, forbid_unknown_fields=True):
    """One finding that is accepted."""

    need: Annotated[
        Text, msgspec.Meta(description='As the finding names it: "extension:imap", "setting:memory_limit".')
    ]
    reason: Annotated[Text, msgspec.Meta(description="Why it may stay as it is.")]
    by: Annotated[Text, msgspec.Meta(description="Who decided.")]
    until: Annotated[date | None, msgspec.Meta(description="The last day on which it is accepted.")] = None


class AcceptedFile(msgspec.Struct, forbid_unknown_fields=True):
    """Findings that somebody has decided to live with."""

    format: Annotated[int, msgspec.Meta(description="Always 1.")]
    accepted: list[Entry] = []


def load_accepted(path: Path, *, today: date) -> tuple[Acceptance, ...]:
    """Read such a file; ``today`` tells what has expired.  Every error names the file and the line."""
    where = str(path)
    data = read_named(path, MAX_SIZE, "a file of accepted findings")
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise InputError(where, "not UTF-8") from error
    headers = [n for n, line in enumerate(text.splitlines(), 1) if _HEADER.match(line)]

    def line_of(number: int) -> int:
        return headers[number] if number < len(headers) else 1

    try:
        file = msgspec.convert(document(text, where), AcceptedFile)
    except msgspec.ValidationError as error:
        place = re.search(r"\$\.accepted\[(\d+)\]", str(error))
        raise InputError(where, _in_words(str(error)), line_of(int(place[1])) if place else 1) from error
    if file.format != FORMAT:
        raise InputError(where, f"format {file.format}; this program reads format {FORMAT}", 1)
    acceptances = []
    for number, entry in enumerate(file.accepted):
        line = line_of(number)
        if not _NEED.fullmatch(entry.need):
            raise InputError(where, f"'{entry.need}' names no need; write it like \"extension:imap\"", line)
        if not (entry.reason + entry.by).isprintable():
            raise InputError(where, "reason and by have to stand on one line, without control characters", line)
        expired = entry.until is not None and entry.until < today
        acceptances.append(Acceptance(entry.need, entry.reason, entry.by, entry.until, f"{where}:{line}", expired))
    return tuple(acceptances)


def unmatched(applications: Iterable[Needs]) -> tuple[Acceptance, ...]:
    """Acceptances of needs that none of the applications has for which they are given."""
    matched_by: dict[Acceptance, bool] = {}
    for needs in applications:
        for acceptance in needs.accepted:
            matched_by[acceptance] = matched_by.get(acceptance, False) or needs.holds(acceptance.need)
    return tuple(accepted for accepted, matched in matched_by.items() if not matched)


def _in_words(message: str) -> str:
    what = message.partition(" - at ")[0]
    if unknown := re.fullmatch(r"Object contains unknown field `(.*)`", what):
        return f"unknown key '{unknown[1]}'; known: {', '.join(Entry.__struct_fields__)}"
    if what.startswith("Expected `str` matching regex"):
        return "reason and by have to stand on one line, without control characters"
    if missing := re.fullmatch(r"Object missing required field `(.*)`", what):
        return f"'{missing[1]}' is missing"
    return what
