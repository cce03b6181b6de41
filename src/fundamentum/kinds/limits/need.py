"""How much of something has to get through to an application."""

from typing import Literal

from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, Value

Limit = Literal[
    "uploads:largest", "uploads:files", "requests:longest", "requests:body", "requests:memory", "forms:fields"
]
"""What is written in tables of their own; ``requests:body`` and ``requests:memory`` as directives only."""


class LimitNeed(Value, frozen=True):
    """How much has to get through everything that stands between a visitor and the application."""

    limit: Limit
    amount: int
    """Bytes, seconds or a count."""
    text: str
    """As it is written."""
    level: Level

    @property
    def key(self) -> NeedId:
        return NeedId(self.limit)
