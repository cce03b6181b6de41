"""A survey: what one server has, as observed facts with their origin.

Plain frozen values, written to and read from ``*.survey.json`` as they stand here.  A survey holds facts only;
what they mean for an application is decided in :mod:`fundamentum.check`.
"""

from typing import Literal

from fundamentum.catalog import TAKING
from fundamentum.model.layers import Layer
from fundamentum.model.origin import Origin
from fundamentum.model.packages import Installed, Offer, Repository
from fundamentum.model.php import Branch, Runtime
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import PlainName, Text
from fundamentum.model.sandbox import Sandbox
from fundamentum.model.surrounding_facts import (
    Account,
    Answer,
    Asked,
    Barrier,
    Command,
    Database,
    DatabaseOptions,
    Exposed,
    FirstPage,
    Limit,
    Machine,
    Place,
    Scheduled,
    ServerProcess,
    Spot,
    UnknownLine,
    Visit,
    WebServer,
)
from fundamentum.model.survey_fact import Fact
from fundamentum.model.system import System

FORMAT = 4
"""Of a survey's file.  It rises when an older file would be misread."""


class SiteAnswer(Fact, frozen=True):
    """What a running site said of itself."""

    extensions: tuple[Text, ...]
    settings: dict[Text, Text] = {}
    inside: bool = False
    """Whether a file in its document root asked, so that all that counts on the way there did."""

    def comparable(self, runtime: Runtime) -> dict[str, str]:
        """What it said of directives that no place on the way to a script decides, unless it was asked from there.

        ``runtime`` is as the site's files make it.  Functions that are taken away are left out: PHP shows one place.
        """
        decided = {name for name, setting in runtime.settings.items() if setting.set_by == "site" and not self.inside}
        return {name: value for name, value in self.settings.items() if name not in decided | TAKING}


class Site(Fact, frozen=True):
    """One web site, or a part of one, that a web server hands to PHP."""

    name: Text
    """The host name; ``default`` where the configuration gives none."""
    server: PlainName
    origin: Origin
    """The line that hands it to PHP."""
    aliases: tuple[Text, ...] = ()
    root: Text | None = None
    """Its document root."""
    part: Text | None = None
    """The location or directory, where it is not the whole site."""
    handler: Text = ""
    """The socket, module or program it is handed to."""
    runtime: Text | None = None
    """The label of the runtime that serves it; None: it cannot be told."""
    limits: tuple[Limit, ...] = ()
    """What the web server itself allows a request."""
    secure: bool = False
    """Whether it is reached over HTTPS, as far as this web server's configuration tells."""
    spot: Spot | None = None
    """Where a line can be added that counts for this site alone."""
    user: PlainName | None = None
    """The user as whom the web server itself works."""
    group: PlainName | None = None
    """The group that its processes have, by name or number; None: the user's own."""
    layers: tuple[Layer, ...] = ()
    """What changes the runtime's configuration for its requests, in the order in which it is applied."""
    failing: Text = ""
    """Why every request of it fails, with the place."""
    address: Text = ""
    """Where it waits for requests, as its web server's configuration names it: ``*:80``."""
    both_protocols: bool = False
    """Whether it waits for IPv6 beside IPv4, where that is said apart."""
    barriers: tuple[Barrier, ...] = ()
    fronts: tuple["Site", ...] = ()
    """Sites of web servers on this machine that stand in front of it and pass its requests on."""
    answer: SiteAnswer | None = None
    """What the running site said, if it was asked."""
    set_up: Origin | None = None
    """The beginning of its section; None where it has none of its own."""
    handed: Spot | None = None
    """The line that hands it to PHP, as it stands; None where that is not to be changed."""
    identity: Text = ""
    """As whom the programs work that the web server starts for it, where that is not a user of the system by number."""
    visitor: Text = ""
    """As whom a program works for visitors who did not log in, if it is told to work as these; empty: as itself."""
    service_pool: Text = ""
    """The group of such programs, which can begin anew without the web server."""
    visits: dict[Text, Visit] = {}
    """What it makes of addresses that applications asked about: ``/config/``, for files in that directory; another
    path, which ends with no slash, for a page of which there is no file; ``/.`` for the list of a directory."""

    first_page: FirstPage = ""
    unknown_lines: tuple[UnknownLine, ...] = ()
    """Lines for which every request of it fails, as long as the web server does not know them."""
    refused: tuple[UnknownLine, ...] = ()
    """Lines of its web server's own files, and of its own where that does not read it yet, with which that does not
    start."""

    @property
    def local_port(self) -> int | None:
        """Where it answers plain HTTP on the machine itself; None: nowhere that is known."""
        address, _, port = self.address.rpartition(":")
        if self.secure or address not in ("*", "_default_", "0.0.0.0", "127.0.0.1", "localhost", "[::]", "[::1]"):
            return None
        return int(port) if port.isascii() and port.isdecimal() and len(port) < 6 else 80

    @property
    def way(self) -> tuple["Site", ...]:
        """The web servers' sites that a request passes, in order: those in front of it, and itself."""
        return (*self.fronts, self)


class OtherSite(Fact, frozen=True):
    """A site of which nothing is handed to PHP here."""

    name: Text
    server: Text
    origin: Origin
    root: Text | None = None
    handed_to: Text = ""
    """The web server elsewhere that its requests are handed on to."""


class Survey(Fact, frozen=True):
    """Everything observed on one server."""

    format: int
    server: Text
    system: System
    taken: int | None = None
    """When the server was looked at, in seconds since 1970."""
    program: Text = ""
    """The version of the program that looked at it."""
    reader: Literal["root", "user", "unknown"] = "unknown"
    """As whom it was looked at: what others than root may not read is missing."""
    branches: tuple[Branch, ...] = ()
    runtimes: tuple[Runtime, ...] = ()
    installed: tuple[Installed, ...] | None = None
    """None: the package database could not be read, which is not the same as nothing installed."""
    offers: tuple[Offer, ...] | None = None
    """Packages that have to do with PHP, and what they depend on.  None: no index could be read."""
    repositories: tuple[Repository, ...] = ()
    sites: tuple[Site, ...] = ()
    idle_sites: tuple[Site, ...] = ()
    """Sites that are set up in files which their web server does not read, as if it did."""
    other_sites: tuple[OtherSite, ...] = ()
    """Sites of which nothing is handed to PHP here."""
    remarks: tuple[Remark, ...] = ()
    asked: Asked | None = None
    """What was looked at for certain applications.  None: only what concerns PHP itself."""
    web_servers: tuple[WebServer, ...] | None = None
    """None: it was not looked at."""
    processes: Literal["seen", "partly", "unseen"] = "unseen"
    """Whether it could be seen what runs.  ``unseen``: this is no running system, or none that can be looked into."""
    servers: tuple[ServerProcess, ...] = ()
    machine: Machine = Machine()
    accounts: tuple[Account, ...] = ()
    """The users as whom PHP runs."""
    groups: dict[PlainName, int] = {}
    """The numbers of groups that processes are given by name, beside those of their users."""
    places: tuple[Place, ...] = ()
    """Directories and files that were looked at, with every directory on the way there."""
    commands: tuple[Command, ...] = ()
    databases: tuple[Database, ...] = ()
    """Database servers that answered."""
    options: tuple[DatabaseOptions, ...] = ()
    """What is set for the database servers that are installed, where that was asked for."""
    tasks: tuple[Scheduled, ...] = ()
    answers: dict[Text, Answer] = {}
    """What was found out about texts, sockets and variables, by question: ``text:/proc/swaps``."""
    read: dict[Text, tuple[Text, ...]] = {}
    """The files and directories that decide the configuration of a web server or a site, by its name."""
    marks: dict[Text, Text] = {}
    """What each of them was, and of those of the runtimes: :mod:`fundamentum.model.file_mark`."""
    sandboxes: tuple[Sandbox, ...] = ()
    """PHP's services and web servers that systemd keeps from a part of the file system."""
    exposed: tuple[Exposed, ...] = ()
    """What visitors could reach and should not, as far as names and modes tell."""

    def branch_of(self, runtime: Runtime) -> Branch | None:
        """The branch that a runtime belongs to."""
        same = (branch for branch in self.branches if (branch.branch, branch.home) == (runtime.branch, runtime.home))
        return next(same, None)
