"""PHP on a server: branches with their extension files, and the ways in which each of them is run."""

from collections.abc import Collection
from typing import ClassVar, Final, Literal

from fundamentum.model.layers import Section
from fundamentum.model.origin import BUILT_IN, Origin, Overridden
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import BranchName, DirectiveName, FilePath, Line, PlainName, ServiceName, Text
from fundamentum.model.survey_fact import Fact

Sapi = Literal["cli", "fpm", "apache2", "cgi", "other"]
"""How PHP is run: command line, FastCGI process manager, module in Apache, CGI, or inside another server."""


SAPIS: tuple[Sapi, ...] = ("cli", "fpm", "apache2", "cgi", "other")


class Module(Fact, frozen=True):
    """One extension file found in a branch's extension directory."""

    name: Text
    """The name PHP lists it under, in lower case; the file's own name where that cannot be read."""
    shown: Text
    """The name exactly as PHP lists it."""
    path: Text
    zend: bool = False
    """Whether it is loaded with ``zend_extension=``."""
    package: Text | None = None
    """The installed package that owns the file, if one does."""
    switch: FilePath | None = None
    """The ini file under ``mods-available`` that loads it."""
    version: Text = ""
    """Its own version, as the file has it; empty where the file was not examined for it."""
    linked: tuple[Text, ...] = ()
    """The libraries that it is linked with, where it was examined for them: ``libicuuc.so.72``."""
    features: tuple[Text, ...] | None = None
    """What it was built with, of what is known that it may be; None: it was not examined for that."""
    misfit: Text | None = None
    """Why this file cannot be loaded by this branch, from the file itself; continues "the file …"."""
    requires: tuple[Text, ...] = ()
    """The extensions without which it refuses to start, where the file says so."""
    first: bool = False
    """Whether it has to be the first Zend extension, as it says itself."""


class Branch(Fact, frozen=True):
    """One PHP branch that is at least partly installed."""

    branch: BranchName
    api: Text
    extension_dir: Text
    modules: tuple[Module, ...] = ()
    home: Text = ""
    """Where it stands, if it is not the distribution's own."""
    thread_safe: bool = False
    debug: bool = False
    processor: Text = ""
    system: Text = "Linux"
    compiler: Text = ""
    linked: tuple[Text, ...] = ()
    """The libraries that its program is linked with, where it was examined for them."""


class Setting(Fact, frozen=True):
    """The effective value of one directive in one runtime.

    ``value`` is the text PHP works with (``ini_get``); None: it cannot be known from here.
    """

    value: Text | None
    origin: Origin = BUILT_IN
    overridden: tuple[Overridden, ...] = ()
    """Lines whose value lost, the last one first."""
    admin: bool = False
    """Whether a pool's ``php_admin_value`` sets it, so that no directory can change it."""
    set_by: Literal["ini", "start", "pool", "site"] = "ini"
    """What kind of place decides: an ini file (or nothing does), the command line that starts PHP, a pool's own
    configuration, or a layer of the judged site."""


class Fault(Fact, frozen=True):
    """Why an extension that a line loads does not load."""

    kind: Literal["absent", "unfit", "twice", "wrong-line", "too-early", "too-late"]
    """File missing; built for something else, or damaged; loaded before already; ``extension=`` where
    ``zend_extension=`` is right, or the other way round; loaded without what it requires; loaded after another Zend
    extension although it has to be the first."""
    words: Text
    requires: tuple[Text, ...] = ()
    """The extensions that are missing before it."""


class Loaded(Fact, frozen=True):
    """One extension that a runtime has, or is told to load."""

    name: Text
    shown: Text
    origin: Origin
    """The line that loads it; built in for those compiled in."""
    path: Text | None = None
    fault: Fault | None = None
    """Why loading it fails.  None: it loads."""


ENDINGS: Final = "security.limit_extensions"
"""What says which files a pool runs, by the endings of their names."""


PREPENDED: Final = "auto_prepend_file"
"""What names a file that PHP runs before each script."""


class Answer(Fact, frozen=True):
    """What a running pool itself said it has.  It wins over what the files say."""

    extensions: tuple[Text, ...]
    settings: dict[Text, Text] = {}
    told: dict[Text, Text] = {}
    """As :attr:`Runtime.told`."""


class Sample(Fact, frozen=True):
    """A php.ini that PHP brings and does not read, to be copied where there is none."""

    LINES: ClassVar = frozenset({"lines"})

    path: Text
    lines: dict[int, Line] = {}
    """As :attr:`Runtime.ini_lines`."""
    length: int = 0
    values: dict[DirectiveName, Text] = {}
    """What it sets."""


class Refusal(Fact, frozen=True):
    """Why a process manager does not start with the files that are there now."""

    why: Text
    origin: Origin


class Runtime(Fact, frozen=True):
    """One way PHP runs on this server, with the configuration that counts for it."""

    LINES: ClassVar = frozenset({"ini_lines"})

    branch: BranchName
    sapi: Sapi
    version: Text | None
    pool: PlainName | None = None
    home: Text = ""
    """Where this PHP stands, if it is not the distribution's own."""
    master: Text = ""
    """The service, where the pool belongs to another process manager of the branch than the packaged one."""
    serves: bool = False
    """Whether web pages are served by it: a web server's configuration leads to it; where none could be read, an FPM
    pool, or the Apache module where it is switched on."""
    plain: bool = False
    """Whether ``php`` without a version is this one."""
    listen: Text | None = None
    """The socket at which the pool waits, as its configuration names it."""
    listen_owner: PlainName | None = None
    listen_group: PlainName | None = None
    """Whose that socket is; None: whose the process manager is."""
    listen_mode: int = 0o660
    listen_open: bool = False
    """Whether an access list opens it to others, which is not read."""
    program: Text | None = None
    also: tuple[Text, ...] = ()
    """Other files that are the same program."""
    ini_file: Text | None = None
    new_ini: Text = ""
    """Where a php.ini would be read, if there is none yet; empty: where this PHP stands."""
    scan_dir: FilePath | None = None
    packaged: bool = True
    """Whether it reads the directory in which packages switch extensions on."""
    pool_file: Text | None = None
    pool_dir: FilePath | None = None
    """The directory whose files are included where the pool's own file is."""
    pool_pattern: Text = "*.conf"
    """What the name of a file there has to match so that it is included."""
    temporary: Text = "/tmp"
    """Where temporary files go unless a directive says otherwise; empty: that is not known."""
    chroot: Text = ""
    """The directory into which the pool is shut: paths are other ones for it."""
    user: PlainName | None = None
    group: PlainName | None = None
    """The group that its processes have, by name or number; None: the user's own."""
    service: ServiceName | None = None
    started: float | None = None
    """When the running process last read its configuration (seconds since 1970): at its start, or since; None where
    none runs, or that cannot be seen."""
    stale: tuple[Text, ...] = ()
    """Configuration and extension files that changed after that."""
    settings: dict[DirectiveName, Setting] = {}
    manager: dict[DirectiveName, Setting] = {}
    """What the process manager itself limits (``request_terminate_timeout``, :data:`ENDINGS`), by directive."""
    refused: Refusal | None = None
    """Why the process manager would not start again, and none of its pools."""
    pool_also: tuple[Text, ...] = ()
    """What else the pool sets for what it runs (``env``), by name."""
    extensions: tuple[Loaded, ...] = ()
    answer: Answer | None = None
    told: dict[Text, Text] = {}
    """What this PHP said of versions and of what it was built with, by need: ``library:icu`` to ``72.1``."""
    sections: tuple[Section, ...] = ()
    """The ``[PATH=…]`` and ``[HOST=…]`` sections of its ini files, in the order in which they are read."""
    ini_lines: dict[int, Line] = {}
    """Lines of the php.ini that set something or could, by number, where no directory of additions is beside it."""
    ini_length: int = 0
    """How many lines the php.ini has, where its lines are given."""
    sample: Sample | None = None
    """The php.ini to be copied, where it has none."""
    extension_dir_line: Text = ""
    """The line without which extension files are looked for where none are; empty where they are found."""
    commented: dict[DirectiveName, int] = {}
    """Directives that nothing sets, and of which the php.ini has a line that is commented out: its number."""
    files: tuple[Text, ...] = ()
    """What decides its configuration: files, and directories in which others may appear."""
    unread: tuple[Text, ...] = ()
    """Configuration files and directories that are there but could not be read."""
    remarks: tuple[Remark, ...] = ()

    @property
    def editable(self) -> bool:
        """Whether it is known how to add to its configuration without losing any of it."""
        return bool(self.scan_dir or self.ini_length or (self.ini_file is None and self.home))

    @property
    def main_ini(self) -> str:
        """The php.ini, or where it would be read if it were made."""
        return self.ini_file or self.new_ini or f"{self.home.rstrip('/')}/php.ini"

    @property
    def ini_place(self) -> str:
        """The php.ini for a person: where it is, or would be read if it were made, as far as that is known."""
        return self.main_ini if self.home else self.ini_file or "php.ini"

    @property
    def upload_folders(self) -> list[str]:
        """Where PHP puts what is sent in.  Source: main/php_open_temporary_file.c."""
        for name in ("upload_tmp_dir", "sys_temp_dir"):
            setting = self.settings.get(name)
            if setting and setting.value:
                return [setting.value.rstrip("/") or "/"]
        return [self.temporary] if self.sapi != "cli" and self.temporary else []

    @property
    def label(self) -> str:
        """``8.2/fpm/www``: the name a user gives with ``--runtime``."""
        name = "/".join(part for part in (self.branch, self.sapi, self.pool) if part)
        return "@".join(part for part in (name, self.master, self.home) if part)


def too_early(missing: Collection[str]) -> Fault:
    """The fault of an extension that is loaded without others it requires."""
    names = tuple(sorted(missing))
    return Fault("too-early", f"needs {' and '.join(names)}, which no earlier line loads", names)
