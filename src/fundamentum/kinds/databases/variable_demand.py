"""What needs ask of a variable of a database server: the conditions of all of them together decide its value."""

import posixpath
from collections.abc import Sequence
from typing import Any, Self

from msgspec.structs import replace

from fundamentum.catalog.databases import plain
from fundamentum.changes.database_option import SetDatabaseOption
from fundamentum.kinds.settings.deciding_place import value_for
from fundamentum.model.conditions import Condition
from fundamentum.model.needs_value import Value
from fundamentum.model.safe_text import is_path
from fundamentum.model.surrounding_facts import DatabaseOptions
from fundamentum.model.survey import Survey

_UNITS = (("G", 2**30), ("M", 2**20), ("K", 2**10))


class VariableDemand(Value, frozen=True):
    """What a variable has to be."""

    product: str
    version: str
    name: str
    before: str
    conditions: tuple[Condition, ...]
    lacking: bool
    options: DatabaseOptions
    text: str
    """As the need that lacks something has it."""

    @property
    def key(self) -> tuple[str, str, tuple[str, ...]]:
        return self.product, self.name, self.options.files

    def joined(self, other: Self) -> Self:
        conditions = (*self.conditions, *other.conditions)
        return replace(self, conditions=conditions, lacking=self.lacking or other.lacking)

    @property
    def value(self) -> str | None:
        """The value nearest to the present one that will do, as an option file has it; None if there is none."""
        now = plain(self.product, self.version, self.name, self.before)
        target = value_for(list(self.conditions), "", now)
        if target is None:
            return None
        listed = self.conditions[0].kind in ("has", "lacks")
        return target if listed else _spelled(target, self.product, self.before)

    def settled(self, label: str, survey: Survey, demands: Sequence[Any]) -> SetDatabaseOption | None:
        """The variable in a file that is read behind those that set it now."""
        value, folder = self.value, self.options.folder
        if not self.lacking or value is None or folder is None or self.name in self.options.late:
            return None
        ending = ".conf" if self.product == "postgresql" else ".cnf"
        present = self.options.values.get(self.name)
        last = posixpath.basename(present.origin.file) if present else ""
        inside = present is not None and posixpath.dirname(present.origin.file) == folder
        names = (f"{prefix}-{label}{ending}" for prefix in ("zz", "zzzz", "zzzzzzzz"))
        name = next((name for name in names if not inside or name >= last), None)
        file = f"{folder}/{name}" if name else ""
        if not is_path(file) or not _is_writable(value):
            return None
        return SetDatabaseOption(self.name, self.before, value, file, self.product, self.version)


def _is_writable(value: str) -> bool:
    return value.isprintable() and not set(value) & set("\"'#;\\[]\n")


def _spelled(value: str, product: str, before: str) -> str:
    """A number with the unit in which an administrator reads it; a switch as the server writes it."""
    if value in ("On", "Off"):
        return value.lower() if product == "postgresql" else value.upper()
    if product == "postgresql" and before[-2:].lower() in ("ms", "in") and value.isdigit():
        return f"{value}ms"
    if not value.isdigit():
        return value
    for unit, size in _UNITS:
        if int(value) >= size and int(value) % size == 0:
            ending = {"K": "kB"}.get(unit, f"{unit}B") if product == "postgresql" else unit
            return f"{int(value) // size}{ending}"
    return value
