"""Windows."""

from fundamentum.platforms.base import Platform


class Windows(Platform):
    """Windows, on which PHP comes from no package."""

    rights = False


PLATFORM = Windows()
