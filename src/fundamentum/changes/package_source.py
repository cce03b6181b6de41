"""Configure a package source that the server does not have yet."""

from collections.abc import Iterator

from fundamentum.changes.base import Change, Place
from fundamentum.changes.primitives import ConfigureSource, Primitive
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class AddSource(Change, frozen=True):
    """Add a package source, which a person decides.  Plans are made as if it were there."""

    source: str
    packages: tuple[tuple[str, str], ...]
    """What the plan takes from it, each with its version."""

    @property
    def key(self) -> str:
        return f"source:{self.source}"

    @property
    def about(self) -> str:
        return self.source

    def consequence(self, place: Place) -> str:
        return f"{self.source}: holds packages of this plan, and is not configured on {place.survey.server}"

    def words(self, offers: Offers) -> str:
        return f"add the package source {self.source}"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        return survey

    def lowered(self, place: Place) -> Iterator[Primitive]:
        yield ConfigureSource(self.source, self.packages)
