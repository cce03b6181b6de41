"""Let a service do what the policy of an enforcing system keeps from it, by a boolean that the policy has for that."""

from collections.abc import Iterator

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import SwitchInServer
from fundamentum.model.surrounding_facts import Answer
from fundamentum.model.survey import Survey
from fundamentum.platforms.base import policy_texts
from fundamentum.platforms.offers import Offers
from fundamentum.webservers.base import SwitchCommand


class SwitchBoolean(Change, frozen=True):
    """Switch a boolean of the policy on, for good."""

    name: str
    what: str
    """What it lets whom do."""

    @property
    def key(self) -> str:
        return f"boolean:{self.name}"

    @property
    def about(self) -> str:
        return self.name

    @property
    def effect(self) -> str:
        return "off -> on"

    def words(self, offers: Offers) -> str:
        return f"setsebool -P {self.name} on"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        running, _ = policy_texts(self.name)
        return replace(survey, answers={**survey.answers, f"text:{running}": Answer(True, ("1 1",))})

    def lowered(self, place: Place) -> Iterator[Primitive]:
        """Source: setsebool(8), getsebool(8)."""
        asked = ("sh", "-c", 'getsebool "$1" | grep -q "on$"', "sh", self.name)
        on, off = (("setsebool", "-P", self.name, word) for word in ("on", "off"))
        title = f"let {self.what} (untried on an enforcing system)"
        yield SwitchInServer((SwitchCommand(self.name, asked, on, True, off),), title)
