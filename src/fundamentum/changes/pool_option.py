"""Give a pool's process manager another limit, in a file of its own that is read after those that set it now."""

from collections.abc import Iterator
from typing import Any, Self

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.directive import pool_heading
from fundamentum.changes.primitives import Line, Primitive, WriteFile
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class SetPoolOption(Change, frozen=True):
    """Set an option of a pool."""

    FILLS = "limits"
    name: str
    before: str
    after: str
    path: str
    runtime: str
    pool: str
    least: int
    """What it has to allow, in seconds."""

    @property
    def key(self) -> str:
        return f"manage:{self.runtime}:{self.name}"

    @property
    def about(self) -> str:
        return self.name

    @property
    def effect(self) -> str:
        return f"{self.before or 'not set'} -> {self.after or 'empty'}"

    @property
    def file(self) -> str:
        return self.path

    def words(self, offers: Offers) -> str:
        return f"set {self.name} = {self.after} in {self.path}"

    def joined(self, other: Self) -> Self:
        return other if other.least > self.least else self

    def concerns(self, runtime: Runtime) -> bool:
        return self.runtime == runtime.label

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        owner = {"listen_owner": self.after} if self.name == "listen.owner" else {}
        changed = tuple(
            replace(
                runtime,
                manager={**runtime.manager, self.name: Setting(self.after, Origin(self.path, 1))},
                **owner,
            )
            if runtime.label == self.runtime
            else runtime
            for runtime in survey.runtimes
        )
        return replace(survey, runtimes=changed)

    def lowered(self, place: Place) -> Iterator[Primitive]:
        section = Line(f"[{self.pool}]", 1, "pool", planned=False)
        yield WriteFile(self.path, pool_heading(place), (section, Line(f"{self.name} = {self.after}", 2, self.name)))

    def row(self) -> dict[str, Any]:
        return {
            "name": self.name,
            "from": self.before,
            "to": self.after,
            "file": self.path,
            "site": None,
            "runtime": self.runtime,
        }
