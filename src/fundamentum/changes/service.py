"""Let a service start, restart, or read its configuration again."""

from collections.abc import Iterator
from typing import Any, Literal, Self

from msgspec.structs import replace

from fundamentum.catalog.services import services
from fundamentum.catalog.suppliers import suppliers
from fundamentum.changes.base import Change, Place
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import TakeUp
from fundamentum.model.php import Runtime
from fundamentum.model.surrounding_facts import Answer
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform
from fundamentum.platforms.base import Platform
from fundamentum.platforms.offers import Offers

_STRENGTH = {"reload": 0, "restart": 1, "start": 2}


def _places(service: str, of: Platform) -> Iterator[str]:
    """Where a database server, or another service that applications speak to, waits once it runs."""
    for product, name in of.database_services.items():
        yield from suppliers().places[product] if name == service else ()
    for known in services().values():
        if service in known.services:
            yield from (*known.sockets, *(f"127.0.0.1:{port}" for port in known.ports))


class Restart(Change, frozen=True):
    """Have a service take up its configuration."""

    FILLS = "services"
    service: str
    verb: Literal["start", "restart", "reload"] = "restart"
    reads: bool = True
    """Whether it reads anything that plans change; else it only has to run."""

    @property
    def key(self) -> str:
        return f"restart:{self.service}"

    @property
    def about(self) -> str:
        return self.service

    @property
    def effect(self) -> str:
        return "has to run" if self.verb == "start" else "started too early"

    def words(self, offers: Offers) -> str:
        return " ".join(offers.platform.service(self.verb, self.service))

    def joined(self, other: Self) -> Self:
        return other if _STRENGTH[other.verb] > _STRENGTH[self.verb] else self

    def concerns(self, runtime: Runtime) -> bool:
        return self.verb != "start" and self.service == runtime.service

    def services(self, platform: Platform) -> Iterator[tuple[str, str]]:
        yield self.service, self.verb

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        """The server with a service that runs, and has read everything."""
        now = float(survey.taken or 1) if self.verb == "start" else None
        runtimes = tuple(
            replace(runtime, stale=(), answer=None, started=now or runtime.started)
            if runtime.service == self.service
            else runtime
            for runtime in survey.runtimes
        )
        of = platform(survey.system.family)
        servers = tuple(
            replace(server, started=now or server.started, stale=())
            if of.web_service(server.server) == self.service
            else server
            for server in survey.servers
        )
        waited_at = {runtime.listen for runtime in runtimes if runtime.service == self.service}
        waiting = _places(self.service, of) if now else ()
        answers = {**survey.answers, **{f"socket:{place}": Answer(True) for place in waiting}}
        places = tuple(
            replace(place, kind="file") if place.kind == "absent" and place.path in waited_at else place
            for place in survey.places
        )
        return replace(survey, runtimes=runtimes, servers=servers, places=places, answers=answers)

    def lowered(self, place: Place) -> Iterator[Primitive]:
        yield TakeUp(self.service, self.verb, self.reads)

    def row(self) -> dict[str, Any]:
        return {"name": self.service, "action": self.verb}
