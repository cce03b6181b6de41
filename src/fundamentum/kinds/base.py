"""What every kind of need tells, and with what it is asked."""

from collections.abc import Iterator, Mapping
from typing import Any, ClassVar, Generic, Literal, TypeVar

import msgspec

from fundamentum.kinds.table_reader import Reader
from fundamentum.model.findings import Finding, Target
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import Needs
from fundamentum.model.promises import Promise
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms.offers import Offers

AnyNeed = TypeVar("AnyNeed")
Question = Literal[
    "commands",
    "directories",
    "greetings",
    "locales",
    "modules",
    "options",
    "packages",
    "sockets",
    "tasks",
    "texts",
    "variables",
    "visits",
]
"""What can be asked of a server in general, answered by a survey and a recorder alike:

``commands``: where a program is, and which package brings it; ``directories``: modes, owners and space of a path,
absolute or below the directory in which the application stands; ``greetings``: what a service says before anybody logs
in; ``locales``: which ones are ``installed``; ``modules``: the version of an extension, and what its file was built
with; ``options``: the values that a database server's files give it; ``packages``: what the indexes have of it;
``sockets``: whether something waits at a path or ``HOST:PORT``; ``tasks``: how often a program is run at set times;
``texts``: the lines of a small file of the system; ``variables``: an environment variable of PHP's process manager;
``visits``: what a web server makes of an address.
"""


class Context(msgspec.Struct, frozen=True):
    """What a need is held against."""

    needs: Needs
    """The application that has the need."""
    survey: Survey
    target: Target
    """The runtime, as the judged site meets it."""
    offers: Offers
    site: Site | None = None
    """The site that is judged, where the runtime serves one."""


class Kind(Generic[AnyNeed]):
    """One kind of need.  An entry sets what differs."""

    prefixes: ClassVar[tuple[str, ...]] = ()
    """The beginnings, before the colon, of the names of its findings."""
    order: ClassVar[int] = 100
    """Where its needs come among those of all kinds."""
    tables: ClassVar[Mapping[str, type[msgspec.Struct]]] = {}
    """The tables of a needs file in which it is written."""
    group: ClassVar[str] = ""
    """What needs of this kind that are met are told under; empty: their beginning, as a plural."""
    beyond_php: ClassVar[bool] = False
    """Whether it is about what PHP itself does not tell: an information page says nothing of it."""
    on_command_line: ClassVar[bool] = False
    """Whether it holds for the PHP too that runs the application's programs at set times."""

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[AnyNeed]:
        """The needs that stand in its tables, each table a value of the type in :attr:`tables`."""
        yield from ()

    def questions(self, need: AnyNeed) -> Iterator[tuple[Question, str]]:
        """What has to be looked at on the server for a need."""
        yield from ()

    def concerns(self, need: AnyNeed, command_line: bool) -> bool:
        """Whether a need holds for the command line, or else for pages."""
        return self.on_command_line or not command_line

    def judge(self, need: AnyNeed, context: Context) -> Finding:
        """What comes out for a need, with the demands that would meet it."""
        raise NotImplementedError

    def promised(self, finding: Finding, context: Context) -> Iterator[Promise]:
        """What can be asked of the server itself about a need that is met, with the server as it is then."""
        yield from ()

    def written(self, need: NeedId) -> str:
        """Lines of a needs file that ask for it, in whatever version or size; empty where that is not to be told."""
        return ""

    def words(self, need: NeedId) -> str:
        """A need for a person."""
        return f"{need.kind} {' or '.join(need.names)}".strip()

    def met_in_words(self, finding: Finding) -> str:
        """What is told of a need that is met, below the heading of its group."""
        return f"{' or '.join(finding.need.names)} {finding.found}"

    def risky(self, finding: Finding) -> tuple[str, str]:
        """Why a need that is met is met in a risky way, and what to do about that; empty texts if it is not."""
        return "", ""

    def heading(self, finding: Finding) -> str:
        """What needs of its kind that are met are told under."""
        return self.group or f"{finding.need.kind}s"
