"""Have a locale made, where the system makes those that a list names."""

import shlex
from collections.abc import Iterator

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import SwitchInServer
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers
from fundamentum.webservers.base import SwitchCommand

ANSWER = "locales:installed"
"""Under this name a survey has the locales that are there."""


class MakeLocale(Change, frozen=True):
    """Add a locale to the system's list, and make it."""

    name: str

    @property
    def key(self) -> str:
        return f"locale:{self.name}"

    @property
    def about(self) -> str:
        return self.name

    def words(self, offers: Offers) -> str:
        _, make, _ = offers.platform.locale_commands(self.name)
        return shlex.join(make)

    def concerns(self, runtime: Runtime) -> bool:
        return True  # a process that has looked for locales before may not see the new one

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        answer = survey.answers.get(ANSWER)
        if answer is None:
            return survey
        lengthened = replace(answer, there=True, lines=(*answer.lines, self.name))
        return replace(survey, answers={**survey.answers, ANSWER: lengthened})

    def lowered(self, place: Place) -> Iterator[Primitive]:
        query, make, back = (tuple(words) for words in place.platform.locale_commands(self.name))
        yield SwitchInServer((SwitchCommand(self.name, query, make, True, back),), f"make the locale {self.name}")
