"""Let a web server pass on what it stopped, by its own commands."""

from collections.abc import Iterator

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import RunCommands
from fundamentum.changes.web_limit import each_site
from fundamentum.model.safe_text import PlainName
from fundamentum.model.surrounding_facts import Barrier
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms.offers import Offers
from fundamentum.webservers import webserver


class CommandServer(Change, frozen=True):
    """Change a web server by the commands that answer a barrier."""

    server: PlainName
    site: str
    barrier: Barrier
    """What they answer: it holds them."""

    @property
    def key(self) -> str:
        return f"command:{self.site}:{self.barrier.remedy}"

    @property
    def about(self) -> str:
        return webserver(self.server).title

    @property
    def effect(self) -> str:
        return self.barrier.why

    def words(self, offers: Offers) -> str:
        return self.barrier.remedy

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        """Without the barrier, for every site that had it; a site that nothing is in the way of any more is served."""
        sites, idle = (each_site(sites, self._passable) for sites in (survey.sites, survey.idle_sites))
        served = [site for site in idle if not any(barrier.stops for barrier in site.barriers)]
        rest = tuple(site for site in idle if site not in served or site in survey.idle_sites)
        now = tuple(site for site in served if site not in rest)
        leading = {site.runtime for site in now}
        runtimes = tuple(
            replace(runtime, serves=True) if runtime.label in leading else runtime for runtime in survey.runtimes
        )
        return replace(survey, sites=(*sites, *now), idle_sites=rest, runtimes=runtimes)

    def _passable(self, site: Site) -> Site:
        left = tuple(
            barrier
            for barrier in site.barriers
            if (barrier.why, barrier.commands) != (self.barrier.why, self.barrier.commands)
        )
        return replace(site, barriers=left) if left != site.barriers else site

    def lowered(self, place: Place) -> Iterator[Primitive]:
        title = f"let {webserver(self.server).title} hand {self.site} to PHP"
        yield RunCommands(self.site, title, self.barrier.commands, self.barrier.back)
