"""Windows: PHP comes from no package, and a server is known by the way in which it is read."""

from fundamentum.hosts.base import Host
from fundamentum.platforms.base import Platform


class Windows(Platform):
    """Windows, on which PHP comes from no package."""

    title = "Windows"
    os_name = "Windows"
    rights = False
    no_packages = "package database: Windows has none that PHP comes from"

    def service(self, verb: str, service: str) -> list[str]:
        """In PowerShell's words; of IIS the worker processes alone, as far as that will do."""
        if service == "W3SVC":
            return ["iisreset"] if verb != "enable" else ["Set-Service", "W3SVC", "-StartupType", "Automatic"]
        if verb == "enable":
            return ["Set-Service", service, "-StartupType", "Automatic"]
        return [f"{'Start' if verb == 'start' else 'Restart'}-Service", service]

    def is_certain(self, host: Host) -> bool:
        return host.windows


PLATFORM = Windows()
