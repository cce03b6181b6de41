"""Operations on what serves an application: parts of web servers, services, databases."""

import shlex
from typing import Literal, Self

from msgspec.structs import replace

from fundamentum.changes.primitives import Primitive
from fundamentum.platforms.base import Platform
from fundamentum.webservers.base import SwitchCommand


class SwitchInServer(Primitive, frozen=True):
    """Switch parts of a web server on or off, each asked about first."""

    KIND = "modules"
    ORDER = 4
    switching: tuple[SwitchCommand, ...]
    what: str = "let the web server hand PHP files to PHP"

    @property
    def thing(self) -> str:
        return ",".join(part.name for part in self.switching)

    @property
    def title(self) -> str:
        return self.what

    def commands(self, platform: Platform) -> list[str]:
        """The web server's own commands, one for all parts that are switched in the same way."""
        groups: dict[tuple[str, ...], list[str]] = {}
        for part in self.switching:
            if part.command[-1] != part.name:
                groups[part.command] = []
                continue
            tool = tuple(word for word in part.command[:-1] if word not in ("-q", "-f"))
            groups.setdefault(tool, []).append(part.name)
        return [shlex.join([*tool, *names]) for tool, names in groups.items()]

    def undone(self, platform: Platform) -> list[str]:
        return [shlex.join(part.back) for part in reversed(self.switching) if part.back]


class LinkSite(SwitchInServer, frozen=True):
    """Let a web server read the file of a site, once that is written."""

    ORDER = 6


class RunCommands(Primitive, frozen=True):
    """Commands of a web server that is changed by these."""

    KIND = "web"
    ORDER = 8
    subject: str
    what: str
    lines: tuple[tuple[str, ...], ...]
    """Each in words."""
    back: tuple[tuple[str, ...], ...] = ()
    """Those that take them back, in their order."""

    @property
    def title(self) -> str:
        return self.what

    def merged(self, other: Self) -> Self:
        lines = tuple(dict.fromkeys((*self.lines, *other.lines)))
        return replace(self, lines=lines, back=tuple(dict.fromkeys((*self.back, *other.back))))

    def commands(self, platform: Platform) -> list[str]:
        return [platform.command_line(words) for words in self.lines]

    def undone(self, platform: Platform) -> list[str]:
        return [platform.command_line(words) for words in reversed(self.back)]


class MakeDatabase(Primitive, frozen=True):
    """Have a database, and a user who has it."""

    KIND = "database"
    ORDER = 10
    name: str
    product: str
    character_set: str
    password_file: str
    given: bool
    """Whether the password is in that file already; else one is made."""
    application: str

    @property
    def title(self) -> str:
        return f"make the database {self.name}"

    def statements(self) -> list[str]:
        """What makes both.  Source: MariaDB's and PostgreSQL's documentation of these statements."""
        secret = f"'the password in {self.password_file}'"
        if self.product == "postgresql":
            encoding = f" ENCODING '{self.character_set}' TEMPLATE template0" if self.character_set else ""
            return [
                f'CREATE ROLE "{self.name}" LOGIN PASSWORD {secret};',
                f'CREATE DATABASE "{self.name}" OWNER "{self.name}"{encoding};',
            ]
        encoding = f" CHARACTER SET {self.character_set}" if self.character_set else ""
        user, pattern = f"'{self.name}'@'localhost'", self.name.replace("_", "\\_")
        return [
            f"CREATE DATABASE IF NOT EXISTS `{self.name}`{encoding};",
            f"CREATE USER IF NOT EXISTS {user} IDENTIFIED BY {secret};",
            f"GRANT ALL PRIVILEGES ON `{pattern}`.* TO {user};",
        ]

    def commands(self, platform: Platform) -> list[str]:
        return self.statements()


class TakeUp(Primitive, frozen=True):
    """Let a service start, restart, or read its configuration again."""

    KIND = "restart"
    ORDER = 9
    service: str
    verb: Literal["start", "restart", "reload"]
    reads: bool = True
    """Whether it reads anything that plans change."""

    @property
    def title(self) -> str:
        return f"{self.verb} {self.service}"

    def commands(self, platform: Platform) -> list[str]:
        return [shlex.join(platform.service(self.verb, self.service))]

    def undone(self, platform: Platform) -> list[str]:
        verb = "stop" if self.verb == "start" else self.verb
        return [shlex.join(platform.service(verb, self.service))]
