"""Set up a web site that hands PHP files to a runtime."""

from collections.abc import Iterator
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.file_operations import Line, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import LinkSite
from fundamentum.changes.web_limit import WidenLimit
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.findings import LinkedSite, Switch
from fundamentum.model.origin import Origin
from fundamentum.model.safe_text import PlainName
from fundamentum.model.surrounding_facts import Limit, Spot, Visit
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms import platform
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers
from fundamentum.webservers import webserver
from fundamentum.webservers.base import NewSite
from fundamentum.webservers.limits import of_new_site

_NAMED: Final = lazy_regex(r"\s*(?:server_name|ServerName)\b")
ADDRESS: Final = "*:80"


class AddSite(Change, frozen=True):
    """Add a site to a web server, in a file of its own."""

    FILLS = "sites"
    server: PlainName
    site: NewSite
    runtime: str
    """The label of the runtime that PHP files are handed to."""
    file: str
    link: str = ""
    """The link by which the file counts, where that takes one."""
    visits: tuple[tuple[str, str], ...] = ()
    """Addresses that it answers, as a survey's sites have them: what comes of each."""

    @property
    def key(self) -> str:
        return f"site:{self.server}:{self.site.name}"

    @property
    def about(self) -> str:
        return self.site.name

    @property
    def effect(self) -> str:
        limits = "".join(f", {name} {value}" for name, value in self.site.limits)
        return f"a new site of {webserver(self.server).title}: {self.site.root}, handed to {self.runtime}{limits}"

    def words(self, offers: Offers) -> str:
        return f"set up {self.site.name} in {self.file}, handed to {self.runtime}"

    def services(self, platform: Platform) -> Iterator[tuple[str, str]]:
        yield platform.web_service(self.server), "reload"

    @property
    def lines(self) -> list[str]:
        """The file, below its heading."""
        return webserver(self.server).new_site(self.site)

    def spot(self) -> Spot:
        """The line behind which others for this site alone can stand."""
        number, text = next((at, line) for at, line in enumerate(self.lines, 2) if _NAMED.match(line))
        return Spot(self.file, number, text)

    def widened(self, change: WidenLimit) -> "AddSite":
        """The site with a limit that would otherwise be changed in its file."""
        kept = tuple(limit for limit in self.site.limits if limit[0] != change.name)
        return replace(self, site=replace(self.site, limits=(*kept, (change.name, change.after))))

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        """The server with that site, once the web server and the runtime are there."""
        runtimes = {runtime.label: runtime for runtime in survey.runtimes}
        there = any((site.server, site.name) == (self.server, self.site.name) for site in survey.sites)
        if there or self.runtime not in runtimes or not has_server(survey, self.server):
            return survey
        serving = replace(runtimes[self.runtime], serves=True)
        return replace(
            survey,
            sites=(*survey.sites, self._as_read(survey)),
            runtimes=tuple(serving if listed.label == self.runtime else listed for listed in survey.runtimes),
        )

    def _as_read(self, survey: Survey) -> Site:
        site = self.site
        own = {name: Limit(name, value, Origin(self.file)) for name, value in site.limits}
        limits = of_new_site(self.server, survey) | own
        return Site(
            site.name,
            self.server,
            Origin(self.file),
            root=site.root,
            handler=site.handler,
            runtime=self.runtime,
            limits=tuple(limits.values()),
            spot=self.spot(),
            user=platform(survey.system.family).php_user,
            address=next(iter(site.addresses), ADDRESS),
            set_up=Origin(self.file),
            visits={path: _visit(outcome, self.file) for path, outcome in self.visits},
        )

    def lowered(self, place: Place) -> Iterator[Primitive]:
        head = f"# For {place.label}, as planned by fundamentum."
        yield WriteFile(self.file, head, (Line("\n".join(self.lines), 1, "site"),))
        if self.link:
            switch = Switch(self.server, sites=(LinkedSite(self.site.name, self.file, self.link),))
            title = f"let the web server read the site {self.site.name}"
            yield LinkSite(tuple(webserver(self.server).switching(switch)), title)

    def row(self) -> dict[str, Any]:
        site = self.site
        return {"name": site.name, "server": self.server, "root": site.root, "runtime": self.runtime, "file": self.file}


def _visit(outcome: str, file: str) -> Visit:
    """``refused``, or the script that answers."""
    if outcome.startswith("/"):
        return Visit("script", outcome, Origin(file))
    return Visit("refused" if outcome == "refused" else "missing", origin=Origin(file))


def has_server(survey: Survey, server: str) -> bool:
    """Whether a web server is there."""
    packages = webserver(server).packages
    there = [process.server for process in survey.servers] + [
        web_server.server for web_server in survey.web_servers or ()
    ]
    return server in there or any(package.name in packages for package in survey.installed or ())
