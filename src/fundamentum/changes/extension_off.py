"""Switch off an extension that an application cannot have beside it."""

import shlex
from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from fundamentum.catalog import directives_of
from fundamentum.changes.base import Change, Place
from fundamentum.changes.extension_loading import in_branch
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import SwitchInServer
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers
from fundamentum.webservers.base import SwitchCommand


class DisableExtension(Change, frozen=True):
    """Switch an extension off by its name, for one way of running one branch."""

    extension: str
    switch: str
    """The name of its file under ``mods-available``, without the ending."""
    branch: str
    sapi: str

    @property
    def key(self) -> str:
        return f"disable:{self.branch}/{self.sapi}:{self.extension}"

    @property
    def about(self) -> str:
        return self.extension

    @property
    def effect(self) -> str:
        return "on -> off"

    def words(self, offers: Offers) -> str:
        return shlex.join(offers.platform.switch_off(self.branch, self.sapi, self.switch))

    def concerns(self, runtime: Runtime) -> bool:
        return (self.branch, self.sapi) == (runtime.branch, runtime.sapi)

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        gone = set(directives_of(self.branch).get(self.extension, ()))

        def without(runtime: Runtime) -> Runtime:
            if runtime.sapi != self.sapi or not runtime.packaged:
                return runtime
            kept = tuple(loaded for loaded in runtime.extensions if loaded.name != self.extension)
            settings = {name: setting for name, setting in runtime.settings.items() if name not in gone}
            return replace(runtime, extensions=kept, settings=settings)

        return in_branch(survey, self.branch, without)

    def lowered(self, place: Place) -> Iterator[Primitive]:
        of, what = place.platform, (self.branch, self.sapi, self.switch)
        off, on = tuple(of.switch_off(*what)), tuple(of.switch_on(*what))
        name, asked = f"{self.extension} for {self.branch}/{self.sapi}", tuple(of.is_switched_on(*what))
        yield SwitchInServer((SwitchCommand(name, asked, off, False, on),), f"switch off the extension {name}")

    def row(self) -> dict[str, Any]:
        return {"extension": self.extension, "runtime": f"{self.branch}/{self.sapi}"}
