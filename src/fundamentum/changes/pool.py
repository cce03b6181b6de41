"""Run an application in a pool of its own, so that its limits are its own."""

from collections.abc import Iterator
from typing import Final

from msgspec.structs import replace

from fundamentum.catalog.setting_line import ini_text
from fundamentum.changes.base import Change, Place
from fundamentum.changes.directive import pool_heading
from fundamentum.changes.file_operations import Line, WriteFile
from fundamentum.changes.primitives import HandOver, Primitive
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers

USUAL_MODE: Final = 0o660


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
    socket_mode: int = 0o660
    chroot: str = ""
    """The directory that it is shut into, as the pool beside it is."""
    copied: tuple[tuple[str, str, bool], ...] = ()
    """What the pool beside it sets of PHP's, and this one sets too: each directive, its value, and whether no
    application may change it."""
    managed: tuple[tuple[str, str], ...] = ()
    """What that pool sets of the process manager's."""
    left: tuple[str, ...] = ()
    """What else that pool sets, by name, and this one does not."""
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
        site = f"hand the site of {self.name} to unix:{self.listen}, so that its own limits hold for it"
        to_copy = f"copy {', '.join(self.left)} from {self.like}, where {self.name} rests on that"
        return "; ".join([*([] if self.handed else [site]), *([to_copy] if self.left else [])])

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
        """The runtime that the new pool would be: the one beside it, without what of that cannot be copied."""
        settings = {
            name: replace(setting, origin=BUILT_IN, overridden=(), admin=False, set_by="ini", value=None)
            if setting.set_by == "pool"
            else setting
            for name, setting in runtime.settings.items()
        }
        place = Origin(self.file, 1)
        settings |= {name: Setting(value, place, admin=admin, set_by="pool") for name, value, admin in self.copied}
        return replace(
            runtime,
            pool=self.name,
            listen=self.listen,
            user=self.user,
            group=self.group or None,
            listen_owner=self.socket_owner or self.user,
            listen_group=self.socket_group or self.group or self.user,
            listen_mode=self.socket_mode,
            chroot=self.chroot,
            pool_file=self.file,
            settings=settings,
            manager={name: Setting(value, place) for name, value in self.managed},
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
            *([f"listen.mode = {self.socket_mode:04o}"] if self.socket_mode != USUAL_MODE else []),
            *([f"listen.acl_users = {others}"] if others else []),
            *([f"chroot = {self.chroot}"] if self.chroot else []),
            "pm = ondemand",
            "pm.max_children = 5",
        )
        lines = [Line("\n".join(statements), 1, "pool")]
        lines += [Line(f"{name} = {value}", 2, name, weak=True) for name, value in self.managed]
        for name, value, admin in self.copied:
            kind = "php_admin_value" if admin else "php_value"
            lines.append(Line(f"{kind}[{name}] = {ini_text(value) or ''}".rstrip(), 9, name, weak=True))
        yield WriteFile(self.file, pool_heading(place), tuple(lines))
        if not self.handed:
            yield HandOver(self.name)
