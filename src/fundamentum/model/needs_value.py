"""What all values of needs have in common."""

from typing import Annotated, Literal

import msgspec

from fundamentum.model.safe_text import Text as AnyText

Level = Literal["required", "recommended"]
Text = Annotated[AnyText, msgspec.Meta(min_length=1, max_length=400)]
"""A text that a person wrote, on one line."""


class NotUnderstood(ValueError):
    """A word of the needs file that means nothing; the message says what would."""


class Value(msgspec.Struct, frozen=True):
    """Base of the values here."""
