"""Give a variable of a database server another value, in a file that is read behind those that set it now."""

import posixpath
from collections.abc import Iterator

from msgspec.structs import replace

from fundamentum.catalog.databases import takes_restart
from fundamentum.changes.base import NewValue, Place
from fundamentum.changes.file_operations import Line, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import DatabaseOptions, OptionValue
from fundamentum.model.survey import Survey
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers


class SetDatabaseOption(NewValue, frozen=True):
    """Set a variable for every database of a server."""

    file: str
    product: str
    version: str

    @property
    def key(self) -> str:
        return f"database-option:{self.file}:{self.name}"

    @property
    def line(self) -> str:
        """The line in the syntax of its file."""
        if self.product != "postgresql":
            return f"{self.name} = {self.after}"
        return f"{self.name} = '{self.after}'"

    def words(self, offers: Offers) -> str:
        return f"set {self.line} in {self.file}"

    def services(self, platform: Platform) -> Iterator[tuple[str, str]]:
        if service := platform.database_services.get(self.product):
            yield service, "restart" if takes_restart(self.product, self.version, self.name) else "reload"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        there = [options for options in survey.options if self._reads(options)]
        made = OptionValue(self.after, Origin(self.file, 1))
        if not there:
            folder = posixpath.dirname(self.file)
            new = DatabaseOptions(self.product, self.version, {self.name: made}, folder)  # type: ignore[arg-type]
            return replace(survey, options=(*survey.options, new))
        options = (
            replace(option, values={**option.values, self.name: made}) if option in there else option
            for option in survey.options
        )
        return replace(survey, options=tuple(options))

    def _reads(self, options: DatabaseOptions) -> bool:
        return options.product == self.product and options.folder == posixpath.dirname(self.file)

    def lowered(self, place: Place) -> Iterator[Primitive]:
        head = f"# Settings for {place.label}, as planned by fundamentum."
        section = () if self.product == "postgresql" else (Line("[mysqld]", 1, "section", planned=False),)
        yield WriteFile(self.file, head, (*section, Line(self.line, 9, self.name), *self._kept(place.survey)))

    def _kept(self, survey: Survey) -> Iterator[Line]:
        """What an earlier plan put into the same file, and still counts."""
        for options in survey.options:
            for name, value in options.values.items() if self._reads(options) else ():
                if value.origin.file == self.file:
                    was = replace(self, name=name, after=value.value)
                    yield Line(was.line, 9, name, planned=False)

    def consequence(self, place: Place) -> str:
        """Everything else that uses the server has it too."""
        return f"it counts for every database of this server; {self.name} was {self.before or 'empty'}"
