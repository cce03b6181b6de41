"""Hand a site that is there to another pool of PHP's process manager."""

from collections.abc import Iterator

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.file_operations import EditFile, Hunk
from fundamentum.changes.primitives import Primitive
from fundamentum.model.safe_text import PlainName
from fundamentum.model.surrounding_facts import Spot
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers


class MoveSite(Change, frozen=True):
    """Change the line that hands a site to a pool, so that it hands it to another one."""

    server: PlainName
    site: str
    spot: Spot
    """That line."""
    before: str
    """The socket, as it stands there."""
    after: str
    runtime: str
    """The label of the pool that it is handed to then."""

    @property
    def key(self) -> str:
        return f"move:{self.spot.file}:{self.spot.line}"

    @property
    def file(self) -> str:
        return self.spot.file

    @property
    def about(self) -> str:
        return self.site

    @property
    def effect(self) -> str:
        return f"{self.before} -> {self.after}"

    def words(self, offers: Offers) -> str:
        return f"write {self.after} in the place of {self.before} at {self.spot.file}:{self.spot.line}"

    def services(self, platform: Platform) -> Iterator[tuple[str, str]]:
        yield platform.web_service(self.server), "reload"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        """The server with the site at the other pool, once that is there."""
        labels = {runtime.label for runtime in survey.runtimes}
        if self.runtime not in labels:
            return survey
        sites = tuple(self._moved(site) for site in survey.sites)
        leading = {site.runtime for site in sites}
        runtimes = (replace(listed, serves=listed.label in leading or listed.serves) for listed in survey.runtimes)
        return replace(survey, sites=sites, runtimes=tuple(runtimes))

    def _moved(self, site: Site) -> Site:
        if site.handed != self.spot:
            return site
        return replace(site, runtime=self.runtime, handler=site.handler.replace(self.before, self.after))

    def lowered(self, place: Place) -> Iterator[Primitive]:
        start = self.spot.text.index(self.before)
        stretch = (start, start + len(self.before), self.after)
        yield EditFile(self.spot.file, (Hunk(self.spot.line, self.spot.text, (stretch,), (), self.spot.unended),))


def moving(survey: Survey, name: str, runtime: str, listen: str, to: str) -> tuple[MoveSite, ...]:
    """What hands a site to another pool than the one that waits at ``listen``; nothing where no line can be changed.

    A line that hands on other sites too is not touched, nor one that names the socket in another way.
    """
    mine = [site for site in survey.sites if site.name == name and site.runtime == runtime]
    others = [site for site in survey.sites if site not in mine]
    moves = []
    for site in mine:
        spot = site.handed
        shared = spot is None or any(other.handed == spot or other.origin == site.origin for other in others)
        if spot is None or shared or spot.text.count(listen) != 1:
            return ()
        moves.append(MoveSite(site.server, name, spot, listen, to, ""))
    return tuple({change.key: change for change in moves}.values())
