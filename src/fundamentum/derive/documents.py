"""What an application's own README and installation notes say under headings about requirements.

Source and manifest come first: a document adds what they do not speak of, as recommended, and contradictions are told.
"""

import os
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Final

import msgspec

from fundamentum.catalog import branch_key
from fundamentum.derive.quoted import extension_called
from fundamentum.derive.result import Entry, Place
from fundamentum.errors import InputError
from fundamentum.prose.lines import Line
from fundamentum.prose.requirements import requirements
from fundamentum.prose.statement import Statement
from fundamentum.untrusted.files import read_below

_FOLDERS: Final = ("", "docs", "doc", "documentation")
_NAMES: Final = re.compile(
    r"(?:readme|install(?:ation|ing)?|requirements?|getting[-_ ]?started|setup|prerequisites?)[\w.-]*", re.I
)
_ENDINGS: Final = frozenset({"", ".md", ".markdown", ".rst", ".txt", ".html", ".htm"})
_HEADING: Final = re.compile(
    r"requirement|prerequisite|dependenc|what (?:do )?you(?:'ll)? need|before (?:you|installing)|system|compatib|"
    r"server|supported|environment",
    re.I,
)
_ITSELF: Final = re.compile(
    r"\b(?:requires?|needs?|minimum|at least|supports?)\b.{0,60}\bPHP\b|"
    r"\bPHP\b.{0,40}(?:or (?:later|higher|newer|above)|required|\+)",
    re.I,
)
_FOR_DEVELOPERS: Final = re.compile(r"develop|contribut|test|build|docker|upgrad|changelog|translat", re.I)
MAX_FILES: Final = 12
MAX_NAMES: Final = 5000
MAX_SIZE: Final = 256 * 1024
_LOWER: Final = re.compile(r">=\s*(\d{1,2}\.\d{1,3}(?:\.\d{1,3})?)")


class Said(msgspec.Struct):
    """What documents say."""

    php: list[tuple[str, Place]] = msgspec.field(default_factory=list)
    """Version ranges, as needs files write them."""
    extensions: list[tuple[tuple[str, ...], Place]] = msgspec.field(default_factory=list)


def documents(root: str, base: str) -> Said:
    """What the documents at the top of an application say."""
    found = Said()
    for path in list(_files(root, base))[:MAX_FILES]:
        try:
            data = read_below(Path(root), path, MAX_SIZE)
            understood = requirements(data, path)
        except (OSError, InputError):
            continue
        for line, statements in understood.sentences:
            if _counts(line):
                for statement in statements:
                    _take(found, statement, Place(path, line.number, line.text[:80], "the document says it"))
    return found


def _files(root: str, base: str) -> Iterator[str]:
    top = base.strip("/")
    for folder in _FOLDERS:
        inside = "/".join(part for part in (top, folder) if part)
        try:
            with os.scandir(f"{root}/{inside}") as entries:
                names = sorted(one.name for one, _ in zip(entries, range(MAX_NAMES), strict=False))
        except OSError:
            continue
        for name in names:
            stem, dot, ending = name.rpartition(".")
            known = f"{dot}{ending}".lower() if stem else ""
            if known in _ENDINGS and _NAMES.fullmatch(stem or name):
                yield f"{inside}/{name}".lstrip("/")


def _counts(line: Line) -> bool:
    """Whether a sentence stands under a heading about requirements, or says itself that it is one."""
    if _FOR_DEVELOPERS.search(line.heading):
        return False
    return bool(_HEADING.search(line.heading) or _ITSELF.search(line.text))


def _take(found: Said, statement: Statement, place: Place) -> None:
    if statement.table == ("php",) and statement.key == "version" and (low := _LOWER.search(str(statement.value))):
        if (5, 2) <= branch_key(".".join(low[1].split(".")[:2])) < (10, 0):
            found.php.append((str(statement.value).replace(" ", "").replace(",", ", "), place))
    elif statement.table[0] == "extensions" and statement.table[-1] != "absent":
        names = tuple(
            name for part in str(statement.value).split("|") if (name := extension_called(part.strip().encode()))
        )
        if names:
            found.extensions.append((names, place))


def with_documents(
    php: Entry | None, found: list[Entry], said: Said, everywhere: frozenset[str]
) -> tuple[Entry | None, list[Entry], list[str]]:
    """What was derived, with what documents add; and where they say otherwise, in words.

    ``everywhere``: extensions that are a part of every PHP, of which nothing has to be said.
    """
    remarks: list[str] = []
    if said.php:
        value, place = said.php[0]
        if php is None:
            php = Entry("php", (), "required", value, f"{place.path} says", (place,))
        elif (ours := _LOWER.search(php.value)) and (theirs := _LOWER.search(value)) and _differ(ours[1], theirs[1]):
            where = f"{php.places[0]}" if php.places else "its source"
            remarks.append(f"{place} says PHP {value}, {where} {php.value}: the latter counts")
    named = {name for entry in found if entry.kind in ("extension", "absent") for name in entry.names}
    added: list[Entry] = []
    for names, place in said.extensions:
        if named.isdisjoint(names) and everywhere.isdisjoint(names):
            named.update(names)
            added.append(Entry("extension", names, "recommended", "", f"{place.path} says", (place,)))
    return php, [*found, *added], remarks


def _differ(ours: str, theirs: str) -> bool:
    return branch_key(".".join(ours.split(".")[:2])) != branch_key(".".join(theirs.split(".")[:2]))
