"""What systemd keeps a service from, whatever the rights of its user: directories it does not see, or may not change.

Source: systemd.exec(5), "Sandboxing".
"""

import posixpath
from typing import Literal

from fundamentum.model.origin import Origin
from fundamentum.model.safe_text import ServiceName, Text
from fundamentum.model.survey_fact import Fact

Access = Literal["hidden", "its own", "read-only", "writable"]
"""It is not there for the service; it has another one, which nobody else sees; as it is, or not to be changed."""


class Fence(Fact, frozen=True):
    """One directory, with all that is below it."""

    path: Text
    access: Access
    origin: Origin


class Sandbox(Fact, frozen=True):
    """What one service has otherwise than the rest of the system."""

    service: ServiceName
    fences: tuple[Fence, ...] = ()
    unsure: Origin | None = None
    """A line that puts other directories in the place of some, which ones is not followed."""

    def around(self, path: str) -> Fence | None:
        """What counts for a path: nothing below a hidden directory comes back, else the nearest decides."""
        above = [
            fence for fence in reversed(self.fences) if _holds(fence.path, path)
        ]  # of the same path the last counts
        hidden = [fence for fence in above if fence.access == "hidden"]
        return max(hidden or above, key=lambda fence: len(fence.path), default=None)


def _holds(directory: str, path: str) -> bool:
    return posixpath.normpath(path) == directory or path.startswith(f"{directory.rstrip('/')}/")
