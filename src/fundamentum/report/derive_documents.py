"""What was derived, and what differs between two releases, as JSON."""

import msgspec

from fundamentum.derive.release_differences import Changed
from fundamentum.derive.result import Derived, Entry
from fundamentum.model.needs_value import Level

FORMAT = 1


class EvidencePlace(msgspec.Struct):
    """One place that tells of a need."""

    file: str
    line: int | None
    what: str
    how: str
    """What stands around it; empty for a plain use."""


class DerivedNeed(msgspec.Struct):
    """One need, or what was seen and is none."""

    need: str
    """``extension:gd|imagick``, as findings name it."""
    level: Level
    value: str
    """For PHP, an extension or a library the versions, for a setting the condition."""
    why: str
    places: list[EvidencePlace]
    files: int
    """In how many files of the application its words stand."""
    way: str
    """``command_line``: only scripts on the command line use it; empty: it is needed for each way of running PHP."""


class DeriveDocument(msgspec.Struct):
    """The output of ``fundamentum derive --format json``."""

    format: int
    name: str
    version: str
    needs: list[DerivedNeed]
    left_out: list[DerivedNeed]
    files: int
    bytes: int
    parsed: int
    remarks: list[str]


class NeedChange(msgspec.Struct):
    """One need that is not the same in both releases."""

    need: str
    change: str
    """``new``, ``gone``, ``stronger``, ``weaker``, ``otherwise``."""
    old: DerivedNeed | None
    new: DerivedNeed | None


class ReleasesDocument(msgspec.Struct):
    """The output of ``fundamentum derive OLD NEW --format json``."""

    format: int
    old: str
    new: str
    same: bool
    changes: list[NeedChange]


def derive_document(derived: Derived) -> DeriveDocument:
    """Everything that was derived."""
    return DeriveDocument(
        FORMAT,
        derived.name,
        derived.version,
        [_need(entry) for entry in derived.entries],
        [_need(entry) for entry in derived.left_out],
        derived.files,
        derived.size,
        derived.parsed,
        list(derived.remarks),
    )


def releases_document(old: str, new: str, changes: list[Changed]) -> ReleasesDocument:
    """What differs between two releases."""
    rows = [NeedChange(change.key, change.kind, _or_none(change.old), _or_none(change.new)) for change in changes]
    return ReleasesDocument(FORMAT, old, new, not rows, rows)


def _need(entry: Entry) -> DerivedNeed:
    places = [EvidencePlace(place.path, place.line or None, place.what, place.how) for place in entry.places]
    return DerivedNeed(entry.key, entry.level, entry.value, entry.rule, places, entry.files, entry.way)


def _or_none(entry: Entry | None) -> DerivedNeed | None:
    return None if entry is None else _need(entry)
