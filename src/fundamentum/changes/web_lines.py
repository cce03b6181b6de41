"""Let a web server pass on what it stopped, by lines of a site's own or of the main configuration."""

from collections.abc import Iterator

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.file_operations import EditFile, Hunk, Line, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.web_limit import behind, each_site
from fundamentum.model.safe_text import PlainName
from fundamentum.model.surrounding_facts import Barrier, Spot
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers


class AddLines(Change, frozen=True):
    """Add lines to a web server's configuration."""

    server: PlainName
    site: str
    lines: tuple[str, ...]
    spot: Spot | None
    """The line behind which they come; None: in a file of their own, in the main configuration."""
    file: str
    barrier: Barrier
    """What they answer."""

    @property
    def key(self) -> str:
        return f"lines:{self.file}:{self.lines[0]}"

    @property
    def about(self) -> str:
        return self.lines[1].strip() if len(self.lines) > 1 else self.lines[0]

    def words(self, offers: Offers) -> str:
        return self.barrier.remedy

    def services(self, platform: Platform) -> Iterator[tuple[str, str]]:
        yield platform.web_service(self.server), "reload"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        return replace(survey, sites=each_site(survey.sites, self._passable))

    def _passable(self, site: Site) -> Site:
        if self.spot is not None and self.barrier.spot is None and site.spot != self.spot:
            return site
        return replace(site, barriers=tuple(barrier for barrier in site.barriers if barrier != self.barrier))

    def lowered(self, place: Place) -> Iterator[Primitive]:
        if self.spot:
            added = behind(self.server, self.spot.text, self.lines)
            hunk = Hunk(self.spot.line, self.spot.text, added=added, unended=self.spot.unended)
            yield EditFile(self.spot.file, (hunk,))
        else:
            head = f"# For {place.label}, as planned by fundamentum."
            yield WriteFile(self.file, head, tuple(Line(line) for line in self.lines))
