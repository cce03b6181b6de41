"""Windows: PHP comes from no package, and a server is known by the way in which it is read."""

from fundamentum.hosts.base import Host
from fundamentum.platforms.base import Platform


class Windows(Platform):
    """Windows, on which PHP comes from no package."""

    title = "Windows"
    os_name = "Windows"
    rights = False
    no_packages = "package database: Windows has none that PHP comes from"

    def is_certain(self, host: Host) -> bool:
        return host.windows


PLATFORM = Windows()
