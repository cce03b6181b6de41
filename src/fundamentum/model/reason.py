"""Why something is changed."""

from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value


class Reason(Value, frozen=True):
    """The need that a change serves."""

    application: str
    need: NeedId
    level: Level
    note: str | None = None
    """Why the application needs it, from its needs file."""
