"""What all values of needs have in common."""

from typing import Literal

import msgspec

Level = Literal["required", "recommended"]


class NotUnderstood(ValueError):
    """A word of the needs file that means nothing; the message says what would."""


class Value(msgspec.Struct, frozen=True):
    """Base of the values here."""
