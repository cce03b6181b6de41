"""What another release of an application needs otherwise: the question before an update of it."""

from collections.abc import Iterator

import msgspec

from fundamentum.derive.result import Derived, Entry


class Changed(msgspec.Struct, frozen=True):
    """One need that is not the same in both; None where one of them has no such need."""

    key: str
    old: Entry | None
    new: Entry | None

    @property
    def kind(self) -> str:
        """``new``, ``gone``, ``stronger``, ``weaker``, ``otherwise``."""
        if self.old is None or self.new is None:
            return "new" if self.old is None else "gone"
        if self.old.level != self.new.level:
            return "stronger" if self.new.level == "required" else "weaker"
        return "otherwise"


def differences(old: Derived, new: Derived) -> list[Changed]:
    """The needs that differ, required ones first."""
    return sorted(_changed(old, new), key=_rank)


def _changed(old: Derived, new: Derived) -> Iterator[Changed]:
    before, after = ({entry.key: entry for entry in derived.entries} for derived in (old, new))
    for key in before.keys() | after.keys():
        first, second = before.get(key), after.get(key)
        if first is None or second is None or (first.level, first.value) != (second.level, second.value):
            yield Changed(key, first, second)


def _rank(change: Changed) -> tuple[bool, bool, str]:
    now = change.new or change.old
    return (change.key != "php", now is None or now.level != "required", change.key)
