"""Switch on an extension whose file is there, by its name."""

import shlex
from collections.abc import Iterator
from typing import Any

from fundamentum.changes.base import Change, Place
from fundamentum.changes.extension_loading import in_branch, loading
from fundamentum.changes.primitives import Primitive, SwitchExtension
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class EnableExtension(Change, frozen=True):
    """Switch an extension on, for one way of running one branch."""

    FILLS = "enable"
    extension: str
    switch: str
    """The name of its file under ``mods-available``, without the ending."""
    branch: str
    sapi: str

    @property
    def key(self) -> str:
        return f"enable:{self.branch}/{self.sapi}:{self.extension}"

    @property
    def about(self) -> str:
        return self.extension

    def words(self, offers: Offers) -> str:
        return shlex.join(offers.platform.switch_on(self.branch, self.sapi, self.switch))

    def concerns(self, runtime: Runtime) -> bool:
        return (self.branch, self.sapi) == (runtime.branch, runtime.sapi)

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        def change(runtime: Runtime) -> Runtime:
            mine = runtime.sapi == self.sapi and runtime.packaged
            return loading(runtime, self.extension) if mine else runtime

        return in_branch(survey, self.branch, change)

    def lowered(self, place: Place) -> Iterator[Primitive]:
        yield SwitchExtension(((self.branch, self.sapi, self.switch, self.extension),))

    def row(self) -> dict[str, Any]:
        return {"extension": self.extension, "runtime": f"{self.branch}/{self.sapi}"}
