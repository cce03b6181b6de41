"""Give a directive of PHP another value in the very line that decides now, which counts for some sites alone."""

from collections.abc import Iterator
from typing import TypeVar

from msgspec.structs import replace

from fundamentum.catalog import facts
from fundamentum.catalog.setting_line import Syntax, value_in, value_read, with_value
from fundamentum.changes.base import NewValue, Place
from fundamentum.changes.file_operations import EditFile, Hunk
from fundamentum.changes.primitives import Primitive
from fundamentum.model.layers import Assignment, Layer, Section
from fundamentum.model.surrounding_facts import Spot
from fundamentum.model.survey import Survey
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers

_Holding = TypeVar("_Holding", Layer, Section)


class ChangeLine(NewValue, frozen=True):
    """Change the value in a line of a web server's configuration, of a directory's own file or of a section."""

    FILLS = "settings"
    spot: Spot
    """The line as it stands."""
    syntax: Syntax
    runtime: str
    service: str | None
    """The service that has to read it."""
    in_document_root: bool = False
    """Whether the file stands among the application's own."""

    @property
    def key(self) -> str:
        return f"reline:{self.spot.file}:{self.spot.line}:{self.name}"

    @property
    def file(self) -> str:
        return self.spot.file

    def words(self, offers: Offers) -> str:
        line = with_value(self.spot.text, self.syntax, self.name, self.after)
        what = line.strip() if line else f"{self.name} = {self.after}"
        return f"write {what} at {self.spot.file}:{self.spot.line}"

    def services(self, platform: Platform) -> Iterator[tuple[str, str]]:
        if self.service:
            yield self.service, "reload"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        """What stands in that line has the new value, for every site and every runtime that it counts for.

        Its text stays as it is on the server: all changes of one line are made from that.
        """

        value = self._read(survey)

        def changed(assignment: Assignment) -> Assignment:
            return (
                replace(assignment, value=value)
                if (assignment.name, assignment.spot) == (self.name, self.spot)
                else assignment
            )

        def within(holders: tuple[_Holding, ...]) -> tuple[_Holding, ...]:
            return tuple(replace(holder, values=tuple(map(changed, holder.values))) for holder in holders)

        sites = tuple(replace(site, layers=within(site.layers)) if site.layers else site for site in survey.sites)
        runtimes = tuple(
            replace(runtime, sections=within(runtime.sections)) if runtime.sections else runtime
            for runtime in survey.runtimes
        )
        return replace(survey, sites=sites, runtimes=runtimes)

    def _read(self, survey: Survey) -> str:
        """What PHP takes from the line as it is afterwards."""
        branch = next(runtime.branch for runtime in survey.runtimes if runtime.label == self.runtime)
        line = with_value(self.spot.text, self.syntax, self.name, self.after)
        return value_read(line or "", self.syntax, self.name, facts(branch).constants)

    def lowered(self, place: Place) -> Iterator[Primitive]:
        stretch = value_in(self.spot.text, self.syntax, self.name, self.after)
        hunk = Hunk(self.spot.line, self.spot.text, (stretch,) if stretch else (), unended=self.spot.unended)
        yield EditFile(self.spot.file, (hunk,), self.in_document_root)
