"""What can be done to a server: one value for each kind of change, and its name."""

from typing import Literal

import msgspec

from fundamentum.catalog.setting_line import Syntax
from fundamentum.model.findings import Arrangement, LinkedSite
from fundamentum.model.need_id import NeedId
from fundamentum.model.surroundings import Barrier, Spot
from fundamentum.model.text import PlainName
from fundamentum.model.value import Level


class Value(msgspec.Struct, frozen=True):
    """Base of the values of a plan."""


class Reason(Value, frozen=True):
    """The need that a change serves."""

    application: str
    need: NeedId
    level: Level
    note: str | None = None

    def __str__(self) -> str:
        what = "PHP itself" if self.need == "php" else self.need.words
        return f"{self.application}: {what}, {self.level}" + (f" ({self.note})" if self.note else "")


class Install(Value, frozen=True):
    """Install a package."""

    package: str
    again: bool = False
    """Whether it is installed already, but its files are not what they should be."""


class Enable(Value, frozen=True):
    """Switch on an extension whose file is there, for one way of running one branch."""

    extension: str
    switch: str
    """The name of its file under ``mods-available``, without the ending."""
    branch: str
    sapi: str


class AddLine(Value, frozen=True):
    """Load an extension whose file is there, by a line of its own: nothing here switches extensions on by name."""

    extension: str
    line: str
    file: str
    """A file of the scan directory, or the php.ini itself where there is no such directory."""
    runtime: str


class Set(Value, frozen=True):
    """Give a directive another value, in a file of its own that is read after those that set it now."""

    name: str
    before: str | None
    after: str
    file: str
    runtime: str
    pool: str | None = None
    """The pool, where only a pool's own configuration can win."""
    admin: bool = False
    """Whether the pool's line is the administrator's, which no application can change: where one decides now."""


class ChangeLine(Value, frozen=True):
    """Give a directive another value in the very line that decides now, which counts for some sites alone."""

    name: str
    before: str
    after: str
    spot: Spot
    """The line as it stands."""
    syntax: Syntax
    runtime: str
    service: str | None
    """The service that has to read it."""
    in_document_root: bool = False
    """Whether the file stands among the application's own."""


class AddPool(Value, frozen=True):
    """Run an application in a pool of its own, so that its limits are its own."""

    name: str
    like: str
    """The runtime whose branch it runs on."""
    runtime: str
    """The label of the new one."""
    user: str
    listen: str
    file: str


class Manage(Value, frozen=True):
    """Give a pool's process manager another limit, in a file of its own that is read after those that set it now."""

    name: str
    before: str
    after: str
    file: str
    runtime: str
    pool: str
    least: int
    """What it has to allow, in seconds."""


class Widen(Value, frozen=True):
    """Let a web server allow more: by another line in the place of one, or behind it."""

    server: PlainName
    site: str
    name: str
    before: str
    after: str
    spot: Spot | None
    """None: by a command."""
    adds: bool
    """Whether the line comes behind the one there, rather than in its place."""
    least: int
    """What it has to allow, in bytes or seconds."""
    program: str = ""
    """The program that the site's requests are handed to, where the limit is kept with that."""


class Allow(Value, frozen=True):
    """Let a web server allow all sites more, by a file of its own that is read after those that set the limit now."""

    server: PlainName
    site: str
    name: str
    before: str
    after: str
    file: str
    least: int


class AddLines(Value, frozen=True):
    """Let a web server pass on what it stopped, by lines of a site's own or of the main configuration."""

    server: PlainName
    site: str
    lines: tuple[str, ...]
    spot: Spot | None
    """The line behind which they come; None: in a file of their own, in the main configuration."""
    file: str
    barrier: Barrier
    """What they answer."""


class Arrange(Value, frozen=True):
    """Make a directory what it has to be."""

    arrangement: Arrangement


class Schedule(Value, frozen=True):
    """Let a program be run at set times."""

    command: str
    line: str
    file: str


class SwitchOn(Value, frozen=True):
    """Switch on what makes a web server hand PHP files to a runtime."""

    server: PlainName
    modules: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    """Modules that cannot stay on beside them."""
    snippets: tuple[str, ...] = ()
    sites: tuple[LinkedSite, ...] = ()


class Restart(Value, frozen=True):
    """Restart a service."""

    service: str
    gently: bool = False
    """Whether it is enough that it reads its configuration again."""
    starts: bool = False
    """Whether it does not run yet."""

    @property
    def verb(self) -> Literal["start", "reload", "restart"]:
        """What is done to it."""
        return "start" if self.starts else "reload" if self.gently else "restart"


Change = Set | ChangeLine | Widen | Manage | Allow
"""What gives something another value."""


Action = Install | Enable | AddLine | AddLines | Change | AddPool | Arrange | Schedule | SwitchOn | Restart


def key_of(action: Action) -> str:
    """A name for an action, under which its reasons are kept."""
    match action:
        case Install(package):
            return f"install:{package}"
        case Enable(extension, _, branch, sapi):
            return f"enable:{branch}/{sapi}:{extension}"
        case AddLine(extension, _, file):
            return f"line:{file}:{extension}"
        case Set(name, _, _, _, runtime):
            return f"set:{runtime}:{name}"
        case ChangeLine():
            return f"reline:{action.spot.file}:{action.spot.line}:{action.name}"
        case AddPool():
            return f"pool:{action.runtime}"
        case Manage(name, _, _, _, runtime):
            return f"manage:{runtime}:{name}"
        case Widen():
            place = f"{action.spot.file}:{action.spot.line}" if action.spot else action.site
            return f"widen:{place}:{action.name}"
        case Allow():
            return f"allow:{action.file}:{action.name}"
        case AddLines():
            return f"lines:{action.file}:{action.lines[0]}"
        case Arrange(arrangement):
            return f"directory:{arrangement.path}"
        case Schedule():
            return f"schedule:{action.file}:{action.command}"
        case SwitchOn():
            links = (one.link for one in action.sites)
            return f"switch:{action.server}:{','.join((*action.modules, *action.snippets, *links))}"
        case Restart(service):
            return f"restart:{service}"


def about_of(action: Action) -> str:
    """What an action is about, in a word or two."""
    match action:
        case Install(package):
            return package
        case Enable(extension) | AddLine(extension):
            return extension
        case Set(name) | Manage(name) | ChangeLine(name):
            return name
        case Widen() | Allow():
            return f"{action.name} of {action.site}"
        case AddLines():
            return action.lines[1].strip() if len(action.lines) > 1 else action.lines[0]
        case Arrange(arrangement):
            return arrangement.path
        case Schedule(command):
            return command
        case SwitchOn():
            return " and ".join((*action.modules, *action.snippets, *(one.site for one in action.sites)))
        case AddPool(name) | Restart(name):
            return name
