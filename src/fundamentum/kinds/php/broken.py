"""What stops requests on their way to PHP."""

import msgspec

from fundamentum.changes.base import Change
from fundamentum.model.origin import Origin


class Broken(msgspec.Struct, frozen=True):
    """Something on the way that stops requests."""

    found: str
    remedy: str
    origin: Origin | None = None
    changes: tuple[Change, ...] = ()
    """What lets them pass, where this program can do it."""
    unknown: bool = False
    """Whether it cannot be told if they are stopped."""
