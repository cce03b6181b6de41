"""Run an application in a pool of its own, so that its limits are its own."""

from collections.abc import Iterator

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.directive import pool_heading
from fundamentum.changes.file_operations import Line, WriteFile
from fundamentum.changes.primitives import HandOver, Primitive
from fundamentum.model.origin import BUILT_IN
from fundamentum.model.php import Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class AddPool(Change, frozen=True):
    """Add a pool to PHP's process manager."""

    FILLS = "pools"
    name: str
    like: str
    """The runtime whose branch it runs on."""
    runtime: str
    """The label of the new one."""
    user: str
    listen: str
    file: str
    group: str = ""
    """The group of its processes; empty: the one of the user's name."""
    socket_owner: str = ""
    socket_group: str = ""
    """Whose its socket is: as that of the pool beside it, to which the web server has the way; empty: the user's."""
    handed: bool = False
    """Whether the site that it is for is handed to it by the same plan."""

    @property
    def key(self) -> str:
        return f"pool:{self.runtime}"

    @property
    def about(self) -> str:
        return self.name

    @property
    def effect(self) -> str:
        return f"a new pool: runs as {self.user}, waits at {self.listen}"

    def consequence(self, place: Place) -> str:
        if self.handed:
            return ""
        return f"hand the site of {self.name} to unix:{self.listen}, so that its own limits hold for it"

    def words(self, offers: Offers) -> str:
        return f"add the pool {self.name}, which waits at {self.listen}, in {self.file}"

    def concerns(self, runtime: Runtime) -> bool:
        return self.runtime == runtime.label

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        if any(runtime.label == self.runtime for runtime in survey.runtimes):
            return survey
        like = next((runtime for runtime in survey.runtimes if runtime.label == self.like), None)
        return replace(survey, runtimes=(*survey.runtimes, self.beside(like))) if like else survey

    def beside(self, runtime: Runtime) -> Runtime:
        """The runtime that the new pool would be: that of its branch, without what the other pool sets for itself."""
        settings = {
            name: replace(setting, origin=BUILT_IN, overridden=(), admin=False, set_by="ini")
            if setting.set_by == "pool"
            else setting
            for name, setting in runtime.settings.items()
        }
        return replace(
            runtime,
            pool=self.name,
            listen=self.listen,
            user=self.user,
            group=self.group or None,
            listen_owner=self.socket_owner or self.user,
            listen_group=self.socket_group or self.group or self.user,
            listen_mode=0o660,
            pool_file=self.file,
            settings=settings,
            stale=(),
            answer=None,
            remarks=(),
        )

    def lowered(self, place: Place) -> Iterator[Primitive]:
        """A pool that starts processes when they are needed, and whose socket the web server's user may use."""
        others = place.platform.socket_users
        statements = (
            f"[{self.name}]",
            f"user = {self.user}",
            f"group = {self.group or self.user}",
            f"listen = {self.listen}",
            f"listen.owner = {self.socket_owner or self.user}",
            f"listen.group = {self.socket_group or self.group or self.user}",
            *([f"listen.acl_users = {others}"] if others else []),
            "pm = ondemand",
            "pm.max_children = 5",
        )
        yield WriteFile(self.file, pool_heading(place), (Line("\n".join(statements), 1, "pool"),))
        if not self.handed:
            yield HandOver(self.name)
