"""Switch a module stream on, so that its packages take the place of those of another one."""

from collections.abc import Iterator

from fundamentum.changes.base import Change, Place
from fundamentum.changes.primitives import Primitive, SwitchStream
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class UseStream(Change, frozen=True):
    """Switch a module stream on.  Candidates for it are judged on the server as it is with the stream on."""

    stream: str

    @property
    def key(self) -> str:
        return f"stream:{self.stream}"

    @property
    def about(self) -> str:
        return self.stream

    def consequence(self, place: Place) -> str:
        return f"what is installed of the other stream is replaced, for every site on {place.survey.server}"

    def words(self, offers: Offers) -> str:
        return " ".join(offers.platform.switch_stream(self.stream))

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        return survey

    def lowered(self, place: Place) -> Iterator[Primitive]:
        yield SwitchStream(self.stream)
