"""What needs ask of a directive of PHP: the conditions of all of them together decide its value."""

from collections.abc import Sequence
from typing import Any, Self

from msgspec.structs import replace

from fundamentum.changes.base import Change
from fundamentum.kinds.settings.deciding_place import for_setting
from fundamentum.model.conditions import Condition
from fundamentum.model.findings import Target
from fundamentum.model.needs_value import Value
from fundamentum.model.origin import Origin
from fundamentum.model.survey import Survey


class DirectiveDemand(Value, frozen=True):
    """What a directive has to be in a runtime, or for one site where a line of the site's own decides."""

    target: Target
    name: str
    conditions: tuple[Condition, ...]
    lacking: bool
    """Whether a need is not met by its value; False: the value only must go on meeting the conditions."""
    weak: bool = False
    """Whether the conditions count only where nothing else asks anything of the directive."""

    @property
    def key(self) -> tuple[str, str, Origin | None]:
        setting = self.target.runtime.settings.get(self.name)
        own = setting.origin if setting and setting.set_by == "site" else None
        return self.target.runtime.label, self.name, own

    def joined(self, other: Self) -> Self:
        lacking = self.lacking or other.lacking
        if self.weak is not other.weak:
            return replace(other if self.weak else self, lacking=lacking)
        return replace(self, conditions=(*self.conditions, *other.conditions), lacking=lacking)

    def settled(self, label: str, survey: Survey, demands: Sequence[Any]) -> Change | None:
        """The change of the directive, in a place where it wins; one new file can stand behind all that is changed."""
        if not self.lacking or not self.target.present:
            return None
        mine = [demand for demand in demands if isinstance(demand, DirectiveDemand) and demand.key[0] == self.key[0]]
        together = [
            setting.origin.set_in
            for demand in mine
            if (setting := demand.target.runtime.settings.get(demand.name)) is not None
        ]
        return for_setting(self.name, list(self.conditions), label, self.target, together, survey)
