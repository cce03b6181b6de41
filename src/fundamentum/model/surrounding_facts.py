"""Facts about what surrounds PHP on a server: web servers' limits, directories, commands, databases, the machine."""

from typing import ClassVar, Literal

from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.safe_text import DirectiveName, FilePath, Line, PackageName, PlainName, Text
from fundamentum.model.survey_fact import Fact


class Asked(Fact, frozen=True):
    """The general questions that needs of applications ask of a server, beside what concerns PHP itself."""

    commands: tuple[Text, ...] = ()
    """Names of programs."""
    directories: tuple[Text, ...] = ()
    """Paths, absolute or below the directory in which the application stands."""
    locales: tuple[Text, ...] = ()
    """``installed``, where it is wanted which locales the system has."""
    greetings: tuple[Text, ...] = ()
    """Services that are asked what they say before anybody logs in."""
    options: tuple[Text, ...] = ()
    """Database servers whose option files are wanted."""
    modules: tuple[Text, ...] = ()
    """Extensions whose files are examined for their version, and for what they were built with."""
    packages: tuple[Text, ...] = ()
    """What the package indexes have of these names."""
    sockets: tuple[Text, ...] = ()
    """Paths, and ``HOST:PORT``, at which something may wait."""
    tasks: tuple[Text, ...] = ()
    """Parts of command lines of programs that are run at set times."""
    texts: tuple[Text, ...] = ()
    """Paths of small files of the system whose lines are wanted."""
    variables: tuple[Text, ...] = ()
    """Environment variables of PHP's process managers."""
    visits: tuple[Text, ...] = ()
    """Paths of addresses: what each site would answer, as :attr:`~fundamentum.model.survey.Site.visits` has it."""


class Answer(Fact, frozen=True):
    """What was found out for one question about a text, a socket or a variable."""

    there: bool | None
    """Whether there is such a thing; None: it cannot be told from here."""
    lines: tuple[Text, ...] = ()
    """The lines of a text, without those that may hold a secret; the value of a variable."""


class Spot(Fact, frozen=True):
    """A line of a configuration file."""

    LINES: ClassVar = frozenset({"text"})

    file: FilePath
    line: int
    text: Line = ""
    """The line exactly as it stands; empty where that is not known (a recording holds no comments)."""
    unended: bool = False
    """Whether the file ends with it, and without a newline."""


class Limit(Fact, frozen=True):
    """What a web server allows a request, for one site."""

    name: DirectiveName
    """The directive or attribute, as the web server names it."""
    value: Text
    origin: Origin = BUILT_IN
    own: Spot | None = None
    """The line that sets it, if it counts for this site alone and can be changed."""
    part: Text | None = None
    """The location it counts for, where that is not the one that hands requests to PHP."""


class Barrier(Fact, frozen=True):
    """What in a web server's own configuration keeps requests for a site from reaching PHP."""

    LINES: ClassVar = frozenset({"lines"})

    why: Text
    remedy: Text
    origin: Origin | None = None
    lines: tuple[Line, ...] = ()
    """What lets them pass, added to the site's section; empty where that has to be decided by a person."""
    general: bool = False
    """Whether those lines belong to the main configuration instead."""
    stops: bool = True
    """False: the application is reached, but not by the address of the site alone."""
    unsure: bool = False
    """Whether it hangs on what a request brings along, so that it cannot be told of a visitor's; it is no stop then."""
    commands: tuple[tuple[Text, ...], ...] = ()
    """Commands of the web server's own that let them pass, each in words."""
    back: tuple[tuple[Text, ...], ...] = ()
    """Those that take these back."""
    spot: Spot | None = None
    """The line behind which the lines belong, where that is not the beginning of the site's section."""


class UnknownLine(Fact, frozen=True):
    """A line that its web server does not take: in a directory's own file it then answers with an error there."""

    why: Text
    origin: Origin
    module: PlainName | None = None
    """The module that would know it; None: it is not known whether one that is loaded does."""
    installed: bool = False
    """Whether that module is there, to be switched on by its name."""


FirstPage = Literal["", "here", "elsewhere", "unclear"]
"""Whether a visitor's first request for a site, that for ``/``, comes to one of several lines that hand parts of the
site to PHP; empty: there is one line, or it was not looked at.  ``unclear``: it is not followed to where it comes."""


class Visit(Fact, frozen=True):
    """What a web server's configuration makes of an address of a site."""

    outcome: Literal["refused", "script", "handed-out", "missing", "unclear"]
    """``handed-out``: as the file that it is; ``missing``: there is no such file, and nothing stands in for it."""
    script: Text = ""
    """The PHP file that answers, as a path below the document root."""
    origin: Origin | None = None
    """The line that decides it."""


class WebServer(Fact, frozen=True):
    """One web server that is set up here, and what of it is switched on."""

    server: PlainName
    modules: tuple[PlainName, ...] = ()
    """The modules that are switched on, where that is done by name."""
    there: tuple[PlainName, ...] = ()
    """The modules that could be."""
    snippets: tuple[PlainName, ...] = ()
    """The parts of its configuration that are switched on by name."""


class ServerProcess(Fact, frozen=True):
    """One web server whose configuration was read."""

    server: PlainName
    started: float | None = None
    """When it last read its configuration (seconds since 1970): at its start, or since; None: none was seen."""
    stale: tuple[FilePath, ...] = ()
    """Files of its configuration that changed after that."""
    modules: tuple[PlainName, ...] = ()
    """The modules that its configuration loads, without ``_module``; empty where that is not how it gets them."""


class Account(Fact, frozen=True):
    """One user, with all groups he is in."""

    name: PlainName
    user: int
    groups: tuple[int, ...] = ()
    """The first one is his own."""
    group: PlainName | None = None
    """The name of his own group."""
    home: Text = ""
    """His own directory."""


class Grant(Fact, frozen=True):
    """One entry of an access control list beside those of the owner and of others."""

    kind: Literal["user", "group", "owning-group", "mask"]
    id: int
    bits: int


class Entry(Fact, frozen=True):
    """What lies in a directory and belongs to somebody else than the directory does."""

    name: Text
    user: int
    group: int
    mode: int
    directory: bool = False


class Access(Fact, frozen=True, array_like=True):
    """One entry of an access list in which rights are given to names."""

    name: Text
    """As the system writes it: ``IIS AppPool\\plates``."""
    sid: Text
    """The same as a security identifier, which is the same in every language."""
    bits: int
    """4 to read, 2 to write, 1 to run or pass through."""
    denied: bool = False


class Place(Fact, frozen=True):
    """One directory or file."""

    path: Text
    kind: Literal["directory", "file", "absent", "unreadable", "link"]
    """``link``: one that leads to nothing."""
    real: Text = ""
    """Where it leads, if that is somewhere else."""
    user: int = 0
    group: int = 0
    mode: int = 0
    grants: tuple[Grant, ...] = ()
    access: tuple[Access, ...] | None = None
    """Where rights are those of names: its access list; None: it is not known."""
    label: Text = ""
    """Its SELinux label."""
    size: int = 0
    """Of a file, in bytes."""
    free: int | None = None
    """Bytes that are free on its file system; None where that cannot be told."""
    owner: PlainName | None = None
    """The name of the user it belongs to."""
    others: tuple[Entry, ...] = ()
    """Of what lies in it, some of what belongs to somebody else than itself does."""
    said: Literal["", "writable", "read-only"] = ""
    """What PHP itself said of it, which counts before its rights."""
    loose: Text = ""
    """The first link on the way that stands in a directory where others than root may put another: where it leads is
    their word."""


class Command(Fact, frozen=True):
    """One program that was asked about."""

    name: PlainName
    path: Text | None = None
    """Where it is; None: it is not there."""
    package: PackageName | None = None
    """The installed package that it came with."""
    offered: tuple[PackageName, ...] = ()
    """Packages of the indexes that bring it, the likeliest first."""
    version: Text = ""
    """What it said of itself, where it was asked."""


class Database(Fact, frozen=True):
    """One database server that answered."""

    product: Literal["mariadb", "mysql", "postgresql"]
    version: Text | None
    """None: it does not tell anybody who has not logged in."""
    address: Text
    chosen: bool = False
    """Whether it is the one that the user named."""


class Scheduled(Fact, frozen=True):
    """One line or timer that runs a program that was asked about."""

    command: Text
    origin: Origin
    user: Text = ""
    every: int | None = None
    """The longest time between two runs, in seconds; None: it cannot be told."""
    path: Text = ""
    """The file that is run, links followed; empty where the line does not tell."""
    program: Text = ""
    """The PHP that is named in front of it, such as ``php`` or ``/usr/bin/php8.2``; empty if none is."""


class Machine(Fact, frozen=True):
    """The machine as such.  None: it cannot be told from here."""

    memory: int | None = None
    """Bytes."""
    swap: int | None = None
    """Bytes."""
    processors: int | None = None
    zone: Text = ""
    """The time zone, such as ``Europe/Vienna``."""
    enforcing: bool | None = None
    """Whether SELinux is there and enforces its rules; None: there is none."""
    permissive: bool = False
    """Whether SELinux is there, and its enforcement switched off."""


class Exposed(Fact, frozen=True):
    """Something in or above a document root that should not be as it is."""

    kind: Literal["world-writable", "information-page", "installer", "not-for-visitors"]
    path: Text
    root: Text
    """The document root."""
    others: int = 0
    """How many more of the kind there are."""


class OptionValue(Fact, frozen=True):
    """The value that the files of a database server give one of its variables."""

    value: Text
    origin: Origin


class DatabaseOptions(Fact, frozen=True):
    """What the option files of one database server say."""

    product: Literal["mariadb", "mysql", "postgresql"]
    version: Text
    """``10.11``, ``15``."""
    values: dict[Text, OptionValue] = {}
    """By variable, as the server itself names it, with underscores."""
    folder: FilePath | None = None
    """The directory whose files it reads last of those that it reads whole; None: there is none."""
    late: tuple[Text, ...] = ()
    """Variables that are set behind that directory, so that no file in it decides them."""
    files: tuple[Text, ...] = ()
    """All files that were read, in that order, and that directory."""
    unread: tuple[Text, ...] = ()
    """Those that are there and could not be read."""
    stale: tuple[Text, ...] = ()
    """Those that changed since the running server was started."""
