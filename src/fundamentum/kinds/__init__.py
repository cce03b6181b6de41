"""What an application can need: one file or folder for each kind of need, found by its name.

An entry's module has a ``KIND`` (:class:`~fundamentum.kinds.base.Kind`), which tells everything about needs of that
kind: the tables of a needs file they are written in, with their schema and the errors; the general questions that they
ask of a server; how one is judged against a site or a runtime; the demands that would meet it; how it is called for a
person.  The reader of needs files, the survey, the check, the planner and the reports are loops over them, so that a
new kind of need is one file here and nothing elsewhere.
"""

from collections.abc import Iterable
from functools import cache
from typing import Any

from fundamentum import entries
from fundamentum.kinds.base import Kind
from fundamentum.kinds.table_reader import COMMAND, PATH
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import Need, Needs
from fundamentum.model.reason import Reason
from fundamentum.model.surrounding_facts import Asked

_NO_ENTRIES = frozenset({"base", "table_reader"})


def names() -> tuple[str, ...]:
    """The kinds of needs that there are."""
    return entries.names(__name__, _NO_ENTRIES)


@cache
def kinds() -> tuple[Kind[Any], ...]:
    """All kinds, in the order in which their needs are judged and told."""
    every_kind = (entries.entry(__name__, name).KIND for name in names())
    return tuple(sorted(every_kind, key=lambda kind: kind.order))


@cache
def _by_prefix() -> dict[str, Kind[Any]]:
    return {prefix: kind for kind in kinds() for prefix in kind.prefixes}


def kind_of(need: str) -> Kind[Any]:
    """The kind of a need, by how findings name it: ``extension:gd``."""
    return _by_prefix().get(need.partition(":")[0]) or Kind()


def in_words(need: str) -> str:
    """A need for a person: *extension pdo_mysql or pdo_pgsql*."""
    return kind_of(need).words(NeedId(need))


def reason_in_words(reason: Reason) -> str:
    """Why something is changed, for a person."""
    what = "PHP itself" if reason.need == "php" else in_words(reason.need)
    return f"{reason.application}: {what}, {reason.level}" + (f" ({reason.note})" if reason.note else "")


def asked_by(
    applications: Iterable[Needs], also: Iterable[str] = (), directory: str | None = None, packages: Iterable[str] = ()
) -> Asked | None:
    """Everything that a survey has to look at for these applications; None if that is nothing.

    ``also`` are commands that are looked for too, if they can be the names of any; ``directory`` is where the
    applications stand, or will; ``packages`` are looked for too.
    """
    questions: dict[str, dict[str, None]] = {}

    def asks(need: Need) -> None:
        for question, about in kind_of(need.key).questions(need):
            questions.setdefault(question, {})[about] = None

    for needs in applications:
        for need in needs.all:
            asks(need)
    for name in also:
        if COMMAND.fullmatch(name):
            questions.setdefault("commands", {})[name] = None
    for package in packages:
        if COMMAND.fullmatch(package):
            questions.setdefault("packages", {})[package] = None
    folder = (directory or "").rstrip("/")
    if folder and PATH.fullmatch(folder) and "directories" in questions:
        there = questions["directories"]
        there |= {f"{folder}/{path}": None for path in [*there] if not path.startswith("/")} | {folder: None}
    return Asked(**{question: tuple(about) for question, about in questions.items()}) if questions else None
