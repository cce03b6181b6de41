"""What one web server tells; as it stands here, of one about which nothing is known but its name."""

from collections.abc import Callable, Iterable, Mapping
from typing import ClassVar, Final

import msgspec

from fundamentum.model.findings import Finding, Switch, Target
from fundamentum.model.php import Branch, Runtime, Sapi
from fundamentum.model.recorded_paths import Recorded
from fundamentum.model.surrounding_facts import Limit, WebServer
from fundamentum.model.survey import Site, Survey

Offered = Callable[[str], object]
"""Whether a package of that name can be installed."""


HIDDEN: Final = r"/\.(?!well-known(?:/|$))"
"""Files whose names begin with a dot, but for those by which an address proves whose it is (RFC 8615)."""


class Directive(msgspec.Struct, frozen=True):
    """A directive that limits requests: what its text comes to, in bytes or seconds, and how a number is written."""

    read: Callable[[str], float | None]
    write: Callable[[int], str] = str
    by_hand: bool = False
    """Whether it stands for one address alone, so that nothing but that line can be changed."""


class SwitchCommand(msgspec.Struct, frozen=True):
    """How one part of a web server is switched: the question whether it is on, and the command."""

    name: str
    query: tuple[str, ...]
    command: tuple[str, ...]
    on: bool
    """Whether it is switched on, rather than off."""
    back: tuple[str, ...] = ()
    """The command that takes it back."""


class NewSite(msgspec.Struct, frozen=True):
    """A site as a plan sets it up."""

    name: str
    root: str
    """Its document root."""
    handler: str
    """The socket that PHP files are handed to; empty where PHP is a part of the web server."""
    front: str = ""
    """The script, below the document root, that answers for what is no file."""
    denied: tuple[str, ...] = ()
    """Directories below the document root of which nothing is handed out."""
    limits: tuple[tuple[str, str], ...] = ()
    """Directives that limit requests, with their values."""
    addresses: tuple[str, ...] = ()
    """Where it waits, ``ADDRESS:80`` each; empty: at every address.  A web server that has sites at an address of their
    own asks only these for what comes there."""
    only_one: bool = False
    """Whether no other site is set up, so that what the web server answers without any has to be kept."""
    both_protocols: bool = True
    """Whether it waits for IPv6 too, where that has to be said."""


class WebServerType:
    """One web server.  An entry sets what differs."""

    title: ClassVar[str] = "web server"
    package: ClassVar[str] = ""
    """The package that brings it."""
    packages: ClassVar[tuple[str, ...]] = ()
    """All packages that bring it, in one form or another."""
    calls_itself: ClassVar[str] = ""
    """How it introduces itself to a program that it runs (``SERVER_SOFTWARE``), in lower case, without its version."""
    process: ClassVar[str] = ""
    """How the command line of its main process begins: an extended regular expression without anchors."""
    worker: ClassVar[str] = ""
    """How that of the processes begins which it starts anew whenever it reads its configuration."""
    signal: ClassVar[str] = ""
    """The signal at which its first process reads its configuration again."""
    pid_files: ClassVar[tuple[str, ...]] = ()
    """Where it notes its process number, if it does so whenever it reads its configuration."""
    recorded: ClassVar[Recorded] = Recorded()
    configuration: ClassVar[tuple[str, ...]] = ()
    """Directories of its configuration."""
    windows_only: ClassVar[bool] = False
    """Whether it runs nowhere else."""
    environment: ClassVar[tuple[str, ...]] = ()
    """Files that set its environment variables when it is started."""
    available: ClassVar[str] = ""
    """The directory of files of sites of which only those count that are linked from :attr:`enabled`."""
    enabled: ClassVar[str] = ""
    read_when_started: ClassVar[tuple[str, ...]] = ()
    """Those of them that a package brings, which a running server has read."""
    root_directive: ClassVar[str] = ""
    """The directive that names a document root."""
    directory_file: ClassVar[str] = ""
    """The name, unless set otherwise, of a file that configures the directory it lies in."""
    shared_roots: ClassVar[tuple[str, ...]] = ()
    """Directories in which document roots of several applications stand."""
    sizes: ClassVar[Mapping[str, Directive]] = {}
    """Directives that limit the size of a request, in bytes."""
    times: ClassVar[Mapping[str, Directive]] = {}
    """Directives that limit how long a request may take, in seconds."""
    body_folder: ClassVar[str] = ""
    """The directive that tells where requests are kept before PHP has them."""
    bodies: ClassVar[tuple[str, ...]] = ()
    """Where the distributions' builds keep them."""
    by_command: ClassVar[bool] = False
    """Whether it is changed by its own commands rather than by lines of a file."""
    harmless: ClassVar[frozenset[str]] = frozenset()
    """Directives and sections that hold no secret, in lower case: only lines made of these go into diffs."""
    set_up_as: ClassVar[int] = 0
    """Its rank among those that new sites are set up behind; 0: none are."""
    has_additions: ClassVar[bool] = False
    """Whether a limit that counts for all sites can be set in a file beside its main configuration."""

    def new_site(self, site: NewSite) -> list[str]:
        """The lines of a file that sets up a site."""
        raise NotImplementedError

    def new_limits(self) -> tuple[Limit, ...]:
        """What it allows requests of a site of which nothing is said."""
        return ()

    def lacking(self, modules: Iterable[str], server: WebServer | None) -> tuple[str, ...] | None:
        """Those of the modules that are not there, by the names under which they are switched on; None: not known."""
        return None

    def ways(self, server: WebServer | None) -> tuple[Sapi, ...]:
        """The ways of running PHP that a new site can have, the one with the least to change first."""
        return ("fpm",)

    def handing_on(self, sapi: Sapi) -> tuple[str, ...]:
        """The modules that a site has need of which hands PHP files to PHP in that way."""
        return ()

    def to_front(self, script: str) -> str:
        """What to do so that a script answers for what is no file, in words."""
        return f"let /{script} answer for what is no file"

    def to_refuse(self, path: str) -> str:
        """What to do so that nothing of a directory is handed out, in words."""
        return f"refuse {path}"

    def to_hide_lists(self) -> str:
        """What to do so that no lists of files are handed out, in words."""
        return "switch lists of directories off"

    def rereads(self, path: str) -> bool:
        """Whether a change of a file of its configuration is in effect once it reloads, without a restart."""
        return True

    def value(self, limit: Limit, survey: Survey) -> str:
        """The value of a limit, where nothing sets it and it depends on the version."""
        return limit.value

    def statement(self, name: str, value: str) -> str:
        """The line that sets a directive."""
        return f"{name} {value}"

    def opens_section(self, line: str) -> bool:
        """Whether what stands behind a line stands deeper than the line itself."""
        return False

    def widening(self, site: Site, limit: Limit, to: str, by_hand: bool) -> str:
        """What to do so that a site is allowed more, in words."""
        if by_hand:
            return f"change {limit.name}={limit.value} to {limit.name}={to} at {limit.origin}"
        line = self.statement(limit.name, to)
        if limit.own:
            return f"write {line} at {limit.own.file}:{limit.own.line}"
        if site.spot:
            return f"add {line} behind {site.spot.file}:{site.spot.line}"
        return f"write {line} where {site.name} is set up ({site.origin})"

    def command(self, site: str, name: str, to: str, program: str) -> tuple[str, ...]:
        """The command, in words, that gives a limit of a site, or of the program it is handed to, another value."""
        raise NotImplementedError

    def service_of(self, pool: str) -> str:
        """What is restarted of it for the programs of one group (:attr:`Site.service_pool`); empty: all of it."""
        return ""

    def unsuited(self, branch: Branch) -> str | None:
        """Why a PHP is not meant for being run by it, as the end of a sentence; None if it is."""
        return None

    def fresh(self, name: str) -> WebServer:
        """What is switched on in it once its package is installed."""
        return WebServer(name)

    def handed(self, finding: Finding, survey: Survey, target: Target, offered: Offered) -> Finding:
        """The finding about PHP itself, with what keeps this web server from handing anything to it."""
        return finding

    def hands_all(self, server: WebServer, runtime: Runtime) -> bool:
        """Whether PHP files of every site are handed to a runtime by what is switched on, whatever the sites say."""
        return False

    def switching(self, switch: Switch) -> list[SwitchCommand]:
        """The commands that switch its parts on and off, in order."""
        return [
            SwitchCommand(
                site.link, ("test", "-e", site.link), ("ln", "-s", site.file, site.link), True, ("rm", site.link)
            )
            for site in switch.sites
        ]

    def told_of_switching(self, switch: Switch, sites: int) -> str:
        """What a person has to know about it where so many sites are served; empty where there is nothing."""
        return ""

    def serving(self, switch: Switch) -> set[tuple[str, str]]:
        """The branch and SAPI of what is handed requests once these parts are on."""
        return set()
