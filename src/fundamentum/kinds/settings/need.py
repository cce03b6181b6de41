"""What an application wants of a directive of PHP."""

from fundamentum.model.conditions import Condition
from fundamentum.model.need_id import NeedId
from fundamentum.model.value import Level, Value


class SettingNeed(Value, frozen=True):
    """One directive and what it must be."""

    name: str
    condition: Condition
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId(f"setting:{self.name}")
