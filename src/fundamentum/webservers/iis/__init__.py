"""IIS: which program each site's handlers give PHP files to, and the commands that change it."""

from typing import Final

from fundamentum.catalog.quantity import span
from fundamentum.model.php import Branch
from fundamentum.model.surrounding_facts import Limit
from fundamentum.model.survey import Site
from fundamentum.webservers.base import Directive, WebServerType
from fundamentum.webservers.iis import commands

MAIN: Final = "/[Ww]indows/[Ss]ystem32/inetsrv/config/applicationHost.config"


def _bytes(text: str) -> float | None:
    return float(text) if text.isascii() and text.isdigit() else None


class Iis(WebServerType):
    """IIS, which runs PHP as a FastCGI program and is changed by commands."""

    calls_itself = "microsoft-iis"
    title = "IIS"
    sizes = {"maxAllowedContentLength": Directive(_bytes)}
    times = {"activityTimeout": Directive(span), "requestTimeout": Directive(span)}
    by_command = windows_only = True

    def widening(self, site: Site, limit: Limit, to: str, by_hand: bool) -> str:
        return f"set {limit.name} to {to} for {site.name}"

    def command(self, site: str, name: str, to: str, program: str) -> tuple[str, ...]:
        if name == "maxAllowedContentLength":
            return commands.largest_request(site, to)
        return commands.of_application(program, f"{name}:{to}")

    def service_of(self, pool: str) -> str:
        return f"application pool {pool}"

    def unsuited(self, branch: Branch) -> str | None:
        """Source: php.net, "Which version do I choose?" for Windows."""
        return "under FastCGI: the other build is meant for it" if branch.thread_safe else None


WEB_SERVER = Iis()
