"""Switch on what makes a web server hand PHP files to a runtime."""

from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import SwitchInServer
from fundamentum.model.findings import Switch
from fundamentum.model.survey import Survey
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers
from fundamentum.webservers import webserver


class SwitchOn(Change, frozen=True):
    """Switch parts of a web server on, and those off that cannot stay beside them."""

    FILLS = "modules"
    switch: Switch

    @property
    def key(self) -> str:
        links = (site.link for site in self.switch.sites)
        return f"switch:{self.switch.server}:{','.join((*self.switch.modules, *self.switch.snippets, *links))}"

    @property
    def about(self) -> str:
        sites = (site.site for site in self.switch.sites)
        return " and ".join((*self.switch.modules, *self.switch.snippets, *sites))

    def words(self, offers: Offers) -> str:
        return " && ".join(SwitchInServer(tuple(self._switching())).commands(offers.platform))

    def _switching(self) -> Iterator[Any]:
        yield from webserver(self.switch.server).switching(self.switch)

    def services(self, platform: Platform) -> Iterator[tuple[str, str]]:
        parts = self.switch.modules or self.switch.snippets
        yield platform.web_service(self.switch.server), "restart" if parts else "reload"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        """The web server with its modules on; the runtime that one of them brings then serves the web."""
        switch, servers = self.switch, []
        for there in survey.web_servers or ():
            if there.server == switch.server:
                modules = tuple(name for name in there.modules if name not in switch.without)
                there = replace(
                    there,
                    modules=tuple(dict.fromkeys((*modules, *switch.modules))),
                    snippets=tuple(dict.fromkeys((*there.snippets, *switch.snippets))),
                )
            servers.append(there)
        links = {site.file for site in switch.sites}
        linked = [site for site in survey.idle_sites if site.set_up and site.set_up.file in links]
        serving, handed = webserver(switch.server).serving(switch), {site.runtime for site in linked}
        runtimes = tuple(
            replace(runtime, serves=True)
            if (runtime.branch, runtime.sapi) in serving or runtime.label in handed
            else runtime
            for runtime in survey.runtimes
        )
        return replace(
            survey,
            web_servers=tuple(servers) if survey.web_servers is not None else None,
            runtimes=runtimes,
            sites=(*survey.sites, *linked),
            idle_sites=tuple(site for site in survey.idle_sites if site not in linked),
        )

    def consequence(self, place: Place) -> str:
        sites = {site.name for site in place.survey.sites if site.server == self.switch.server}
        return webserver(self.switch.server).told_of_switching(self.switch, len(sites))

    def lowered(self, place: Place) -> Iterator[Primitive]:
        of, operation = webserver(self.switch.server), SwitchInServer(tuple(self._switching()))
        passing = not set(of.handing_on("fpm")).isdisjoint(self.switch.modules)
        handing = self.switch.sites or passing or of.serving(self.switch)
        yield operation if handing else replace(operation, what=f"let {of.title} load modules")

    def row(self) -> dict[str, Any]:
        switch = self.switch
        return {
            "server": switch.server,
            "on": list(switch.modules),
            "off": list(switch.without),
            "snippets": list(switch.snippets),
            "links": [site.link for site in switch.sites],
        }
