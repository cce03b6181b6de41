"""Give a pool's process manager another limit, in a file of its own that is read after those that set it now."""

from collections.abc import Iterator

from msgspec.structs import replace

from fundamentum.changes.base import NewValue, Place
from fundamentum.changes.directive import pool_heading
from fundamentum.changes.file_operations import Line, WriteFile
from fundamentum.changes.primitives import Primitive
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class SetPoolOption(NewValue, frozen=True):
    """Set an option of a pool."""

    FILLS = "limits"
    file: str
    runtime: str
    pool: str
    least: int
    """What it has to allow, in seconds."""

    @property
    def key(self) -> str:
        return f"manage:{self.runtime}:{self.name}"

    def words(self, offers: Offers) -> str:
        return f"set {self.name} = {self.after} in {self.file}"

    def concerns(self, runtime: Runtime) -> bool:
        return self.runtime == runtime.label

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        owner = {"listen_owner": self.after} if self.name == "listen.owner" else {}
        changed = tuple(
            replace(
                runtime,
                manager={**runtime.manager, self.name: Setting(self.after, Origin(self.file, 1))},
                **owner,
            )
            if runtime.label == self.runtime
            else runtime
            for runtime in survey.runtimes
        )
        return replace(survey, runtimes=changed)

    def lowered(self, place: Place) -> Iterator[Primitive]:
        section = Line(f"[{self.pool}]", 1, "pool", planned=False)
        yield WriteFile(self.file, pool_heading(place), (section, Line(f"{self.name} = {self.after}", 2, self.name)))
