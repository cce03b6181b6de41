"""Let a web server allow a request more."""

import re
from collections.abc import Callable, Iterable, Iterator

from msgspec.structs import replace

from fundamentum.changes.base import NewValue, Place
from fundamentum.changes.file_operations import EditFile, Hunk, Line, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import RunCommands
from fundamentum.model.origin import Origin
from fundamentum.model.safe_text import PlainName
from fundamentum.model.surrounding_facts import Limit, Spot
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers
from fundamentum.webservers import webserver


def each_site(sites: Iterable[Site], change: Callable[[Site], Site]) -> tuple[Site, ...]:
    """All sites, and those in front of them, changed."""
    return tuple(change(replace(site, fronts=tuple(map(change, site.fronts)))) for site in sites)


def behind(server: str, line: str, lines: Iterable[str]) -> tuple[str, ...]:
    """Lines that come behind this one, as far to the right as they have to be."""
    blanks = line[: len(line) - len(line.lstrip())] + ("    " if webserver(server).opens_section(line) else "")
    return tuple(f"{blanks}{added}" for added in lines)


class WidenLimit(NewValue, frozen=True):
    """Let a web server allow one site more: by another line in the place of one, or behind it, or by a command."""

    FILLS = "limits"
    server: PlainName
    site: str
    spot: Spot | None
    """None: by a command."""
    adds: bool
    """Whether the line comes behind the one there, rather than in its place."""
    least: int
    """What it has to allow, in bytes or seconds."""
    program: str = ""
    """The program that the site's requests are handed to, where the limit is kept with that."""

    @property
    def key(self) -> str:
        if self.spot is None:
            return f"widen:{self.site}:{self.name}"
        which = "" if self.adds or len(self._written(any_value=True)) == 1 else f":{self.before}"
        return f"widen:{self.spot.file}:{self.spot.line}:{self.name}{which}"

    @property
    def about(self) -> str:
        return f"{self.name} of {self.site}"

    @property
    def file(self) -> str:
        return self.spot.file if self.spot else ""

    @property
    def command(self) -> tuple[str, ...]:
        """The command, in words, where the web server is changed by these."""
        return webserver(self.server).command(self.site, self.name, self.after, self.program)

    def words(self, offers: Offers) -> str:
        if self.spot is None:
            return offers.platform.command_line(self.command)
        line = webserver(self.server).statement(self.name, self.after)
        verb, where = ("add", "behind") if self.adds else ("write", "at")
        return f"{verb} {line} {where} {self.spot.file}:{self.spot.line}"

    def services(self, platform: Platform) -> Iterator[tuple[str, str]]:
        if self.spot:
            yield platform.web_service(self.server), "reload"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        idle = each_site(survey.idle_sites, self._widened) if self.spot is None else survey.idle_sites
        return replace(survey, sites=each_site(survey.sites, self._widened), idle_sites=idle)

    def _widened(self, site: Site) -> Site:
        if self.spot is None:
            same = site.server == self.server and self.site == site.name
            limits = (
                replace(limit, value=self.after) if same and limit.name == self.name else limit for limit in site.limits
            )
            return replace(site, limits=tuple(limits))
        return replace(site, limits=tuple(self._changed(limit, site, self.spot) for limit in site.limits))

    def _changed(self, limit: Limit, site: Site, spot: Spot) -> Limit:
        own = limit.own
        if limit.name != self.name:
            return limit
        if not self.adds and own and (own.file, own.line) == (spot.file, spot.line):
            alone = len(self._written(any_value=True)) == 1
            return replace(limit, value=self.after) if alone or limit.value == self.before else limit
        if self.adds and own is None and site.spot == spot:
            place = Spot(spot.file, spot.line + 1)
            return replace(limit, value=self.after, origin=Origin(place.file, place.line), own=place)
        return limit

    def _written(self, *, any_value: bool = False) -> list[tuple[int, int]]:
        """Where its line has the value: a line may hold several statements of this name, each with its own."""
        text = self.spot.text if self.spot else ""
        matches = list(re.finditer(rf"\b{re.escape(self.name)}\s+(\"[^\"]*\"|[^\s;]+)", text, re.I))
        meant = [match for match in matches if match[1].strip('"') == self.before]
        return [match.span(1) for match in (matches if any_value or len(matches) == 1 else meant)]

    def lowered(self, place: Place) -> Iterator[Primitive]:
        if self.spot is None:
            title = f"let {webserver(self.server).title} allow more for {self.site}"
            of = webserver(self.server)
            back = (of.command(self.site, self.name, self.before, self.program),) if self.before else ()
            yield RunCommands(self.site, title, (self.command,), back)
            return
        old = self.spot.text
        statement = webserver(self.server).statement(self.name, self.after)
        added = behind(self.server, old, [statement]) if self.adds else ()
        stretches = () if self.adds else tuple((*place, self.after) for place in self._written())
        yield EditFile(self.spot.file, (Hunk(self.spot.line, old, stretches, added, self.spot.unended),))


class LimitForAll(NewValue, frozen=True):
    """Let a web server allow all sites more, by a file of its own that is read after those that set the limit now."""

    FILLS = "limits"
    server: PlainName
    site: str
    file: str
    least: int

    @property
    def key(self) -> str:
        return f"allow:{self.file}:{self.name}"

    @property
    def about(self) -> str:
        return f"{self.name} of {self.site}"

    def words(self, offers: Offers) -> str:
        return f"write {webserver(self.server).statement(self.name, self.after)} in {self.file}"

    def services(self, platform: Platform) -> Iterator[tuple[str, str]]:
        yield platform.web_service(self.server), "reload"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        return replace(survey, sites=each_site(survey.sites, self._allowed))

    def _allowed(self, site: Site) -> Site:
        """What a web server allows all sites, each of them is allowed that has no limit of its own."""
        limits = tuple(
            replace(limit, value=self.after, origin=Origin(self.file, 2))
            if site.server == self.server and limit.name == self.name and limit.own is None
            else limit
            for limit in site.limits
        )
        return replace(site, limits=limits)

    def lowered(self, place: Place) -> Iterator[Primitive]:
        statement = webserver(self.server).statement(self.name, self.after)
        head = f"# For {place.label}, as planned by fundamentum."
        yield WriteFile(self.file, head, (Line(statement, 2, self.name), *self._kept(place.survey)))

    def _kept(self, survey: Survey) -> Iterator[Line]:
        """What an earlier plan put into the same file, and still counts."""
        for limit in (limit for site in survey.sites for limit in site.limits):
            if limit.origin.file == self.file:
                text = webserver(self.server).statement(limit.name, limit.value)
                yield Line(text, 2, limit.name, planned=False)
