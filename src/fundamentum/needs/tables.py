"""The tables of a needs file, from which the shipped schema is made too."""

from typing import Annotated, Any, Final

import msgspec

from fundamentum.model.text import END
from fundamentum.model.value import Level, Text

Count = Annotated[int, msgspec.Meta(ge=1, le=10_000_000)]
LevelName = Annotated[Level, msgspec.Meta(description="How strongly it is needed.")]


class _Strict(msgspec.Struct, forbid_unknown_fields=True, omit_defaults=True):
    pass


class ApplicationTable(_Strict):
    """Which application this is."""

    name: Annotated[
        str,
        msgspec.Meta(
            pattern=rf"^[A-Za-z0-9][A-Za-z0-9._-]{{0,63}}{END}",
            description="A short name; also used in the names of files a plan writes.",
        ),
    ]
    version: Annotated[Text | None, msgspec.Meta(description="The application's own version.")] = None


class PhpTable(_Strict):
    """Which PHP it runs on."""

    version: Annotated[
        Text | None,
        msgspec.Meta(description='Comparisons that must all hold: ">=8.1, <8.5"; | separates alternatives.'),
    ] = None
    preferred: Annotated[Text | None, msgspec.Meta(description='The branch to choose where several fit: "8.3".')] = None


class NamesTable(_Strict):
    """Names by level.  In one entry, | separates alternatives of which any one is enough."""

    required: Annotated[list[Text], msgspec.Meta(description="Without these the application does not run.")] = []
    recommended: Annotated[list[Text], msgspec.Meta(description="Without these it runs, but lacks something.")] = []


class SettingsTable(_Strict):
    """Directives of php.ini and what they must be: ">= 256M", "on", "off", "unset", "= VALUE"."""

    required: Annotated[dict[str, Any], msgspec.Meta(description="Directive name to condition.")] = {}
    recommended: Annotated[dict[str, Any], msgspec.Meta(description="Directive name to condition.")] = {}


class UploadsTable(_Strict):
    """What visitors send in, held against every limit on its way."""

    largest: Annotated[Text | None, msgspec.Meta(description='The largest file: "200M".')] = None
    files: Annotated[Count | None, msgspec.Meta(description="Files in one request.")] = None
    level: LevelName = "required"


class RequestsTable(_Strict):
    """How long the application may work on one request."""

    longest: Annotated[Text | None, msgspec.Meta(description='The longest request: "90s", "5m".')] = None
    level: LevelName = "required"


class FormsTable(_Strict):
    """How large its forms are."""

    fields: Annotated[Count | None, msgspec.Meta(description="Fields of the largest form.")] = None
    level: LevelName = "required"


class DatabaseTable(_Strict):
    """Database servers: "mariadb >= 10.6 | postgresql >= 13"; | separates alternatives, each entry must hold."""

    required: Annotated[list[Text], msgspec.Meta(description="Without these the application does not run.")] = []
    recommended: Annotated[list[Text], msgspec.Meta(description="Without these it runs, but lacks something.")] = []


class CommandsTable(_Strict):
    """Programs the application runs: "unzip", "git >= 2.30"; | separates alternatives."""

    required: Annotated[list[Text], msgspec.Meta(description="Without these the application does not run.")] = []
    recommended: Annotated[list[Text], msgspec.Meta(description="Without these it runs, but lacks something.")] = []


class DirectoriesTable(_Strict):
    """Directories, absolute or below the application's own: "writable", "read-only", "outside" (of what is served)."""

    required: Annotated[dict[str, Text], msgspec.Meta(description="Path to what it must be.")] = {}
    recommended: Annotated[dict[str, Text], msgspec.Meta(description="Path to what it must be.")] = {}


class HostTable(_Strict):
    """The machine: memory, disk, processors (">= 2"), architecture, time_zone ("set"), https ("on")."""

    required: Annotated[dict[str, Text], msgspec.Meta(description="Fact to what it must be.")] = {}
    recommended: Annotated[dict[str, Text], msgspec.Meta(description="Fact to what it must be.")] = {}


class TasksTable(_Strict):
    """Programs to be run at set times: a path below the application's directory, and "every 15m"."""

    required: Annotated[dict[str, Text], msgspec.Meta(description="Program to how often it runs.")] = {}
    recommended: Annotated[dict[str, Text], msgspec.Meta(description="Program to how often it runs.")] = {}


class NeedsFile(_Strict):
    """What one PHP application requires of a server."""

    format: Annotated[int, msgspec.Meta(description="Always 1.")]
    application: ApplicationTable
    php: PhpTable = msgspec.field(default_factory=PhpTable)
    extensions: NamesTable = msgspec.field(default_factory=NamesTable)
    settings: SettingsTable = msgspec.field(default_factory=SettingsTable)
    loaders: NamesTable = msgspec.field(default_factory=NamesTable)
    uploads: UploadsTable = msgspec.field(default_factory=UploadsTable)
    requests: RequestsTable = msgspec.field(default_factory=RequestsTable)
    forms: FormsTable = msgspec.field(default_factory=FormsTable)
    database: DatabaseTable = msgspec.field(default_factory=DatabaseTable)
    commands: CommandsTable = msgspec.field(default_factory=CommandsTable)
    directories: DirectoriesTable = msgspec.field(default_factory=DirectoriesTable)
    host: HostTable = msgspec.field(default_factory=HostTable)
    tasks: TasksTable = msgspec.field(default_factory=TasksTable)
    notes: Annotated[
        dict[str, Text], msgspec.Meta(description='Why a need exists: "extension:intl" to a sentence.')
    ] = {}
    derived: Annotated[
        dict[str, Text],
        msgspec.Meta(description="What a derivation said of each need; it tells later what a person has changed."),
    ] = {}


TABLES: Final[dict[tuple[str, ...], type[msgspec.Struct]]] = {
    (): NeedsFile,
    ("application",): ApplicationTable,
    ("php",): PhpTable,
    ("extensions",): NamesTable,
    ("settings",): SettingsTable,
    ("loaders",): NamesTable,
    ("uploads",): UploadsTable,
    ("requests",): RequestsTable,
    ("forms",): FormsTable,
    ("database",): DatabaseTable,
    ("commands",): CommandsTable,
    ("directories",): DirectoriesTable,
    ("host",): HostTable,
    ("tasks",): TasksTable,
}
"""The tables by their names, for messages that say what could stand in one."""
