"""The few operations into which every change is resolved: packages, files, switches, ownership, services.

Operations of one kind on one thing are merged into one.  A step of a plan is one of them.  Each output has one
rendering for each; each tells the commands that take it back.
"""

import shlex
from typing import ClassVar, Final, Literal, Self

import msgspec
from msgspec.structs import replace

from fundamentum.model.surrounding_facts import Place
from fundamentum.platforms.base import Platform

Kind = Literal[
    "source",
    "remove",
    "switch",
    "install",
    "enable",
    "modules",
    "file",
    "edit",
    "directory",
    "web",
    "restart",
    "database",
    "site",
]


DECIDED: Final = frozenset({"source", "remove", "switch", "site"})
"""Kinds of operations that a person decides, and carries out."""


class Primitive(msgspec.Struct, frozen=True, tag_field="operation", tag=True):
    """One operation on a server."""

    KIND: ClassVar[Kind]
    ORDER: ClassVar[int] = 0
    """Operations are carried out in the order of this number, those of one number in the order of their things."""

    @property
    def thing(self) -> str:
        """What is operated on, unless told otherwise its first field: two operations of one kind on it are merged."""
        return str(getattr(self, self.__struct_fields__[0]))

    @property
    def title(self) -> str:
        """The heading of the step."""
        raise NotImplementedError

    def merged(self, other: Self) -> Self:
        """This and another operation on the same thing as one."""
        return self

    def commands(self, platform: Platform) -> list[str]:
        """The operation in a shell's words, for a person."""
        return []

    def undone(self, platform: Platform) -> list[str]:
        """What takes it back, in a shell's words; empty where that takes more than a command."""
        return []


class ConfigureSource(Primitive, frozen=True):
    """Configure a package source, which a person decides."""

    KIND = "source"
    source: str
    packages: tuple[tuple[str, str], ...]
    """What is taken from it, each with its version."""

    @property
    def title(self) -> str:
        return f"decide: add the package source {self.source}"


class TakeAway(Primitive, frozen=True):
    """Take packages away, which a person decides and does."""

    KIND = "remove"
    packages: tuple[str, ...]

    @property
    def thing(self) -> str:
        return ",".join(self.packages)

    @property
    def title(self) -> str:
        return f"decide: let {', '.join(self.packages)} go"

    def commands(self, platform: Platform) -> list[str]:
        return [shlex.join(platform.uninstall(self.packages))]

    def undone(self, platform: Platform) -> list[str]:
        return [shlex.join(platform.install(self.packages))]


class HandOver(Primitive, frozen=True):
    """Hand a site to a pool that was made for it, which a person decides."""

    KIND = "site"
    ORDER = 11
    pool: str

    @property
    def title(self) -> str:
        return f"decide: let the web server use the pool {self.pool}"


class SwitchStream(Primitive, frozen=True):
    """Switch a module stream on, which replaces what is installed of the other one."""

    KIND = "switch"
    ORDER = 1
    stream: str

    @property
    def title(self) -> str:
        return f"decide: switch to the module stream {self.stream}"

    def commands(self, platform: Platform) -> list[str]:
        return [shlex.join(platform.switch_stream(self.stream))]


class InstallPackages(Primitive, frozen=True):
    """Install packages, or put back the files of installed ones."""

    KIND = "install"
    ORDER = 2
    names: tuple[str, ...]
    again: tuple[str, ...] = ()

    @property
    def thing(self) -> str:
        return ""

    @property
    def title(self) -> str:
        number = len(self.names) + len(self.again)
        return f"install {number} {'package' if number == 1 else 'packages'}"

    def merged(self, other: Self) -> Self:
        names = tuple(sorted({*self.names, *other.names}))
        return replace(self, names=names, again=tuple(sorted({*self.again, *other.again})))

    def commands(self, platform: Platform) -> list[str]:
        new = [shlex.join(platform.install(self.names))] if self.names else []
        return new + ([shlex.join(platform.install(self.again, again=True))] if self.again else [])

    def undone(self, platform: Platform) -> list[str]:
        return [shlex.join(platform.uninstall(self.names))] if self.names else []


class SwitchExtension(Primitive, frozen=True):
    """Switch extensions on by name, each for one way of running one branch: branch, SAPI, name of its file, itself."""

    KIND = "enable"
    ORDER = 3
    switches: tuple[tuple[str, str, str, str], ...]

    @property
    def thing(self) -> str:
        return ""

    @property
    def title(self) -> str:
        return "switch on what is there already"

    def merged(self, other: Self) -> Self:
        return replace(self, switches=(*self.switches, *other.switches))

    def commands(self, platform: Platform) -> list[str]:
        return [shlex.join(platform.switch_on(branch, sapi, switch)) for branch, sapi, switch, _ in self.switches]

    def undone(self, platform: Platform) -> list[str]:
        return [shlex.join(platform.switch_off(branch, sapi, switch)) for branch, sapi, switch, _ in self.switches]


class Own(Primitive, frozen=True):
    """Make a directory, or change to whom a directory or file belongs and who may do what there."""

    KIND = "directory"
    ORDER = 7
    path: str
    user: str
    """The user who needs it."""
    make: bool
    owner: str | None
    group: str | None
    mode: int | None
    opened: tuple[tuple[str, int], ...]
    """Directories on the way, and the mode with which they can be passed through."""
    grants: tuple[tuple[str, str], ...]
    """Entries for the user in access lists: path and letters (``rwx``)."""
    label: str | None
    before: tuple[Place, ...] = ()
    """These places as they are now."""
    empty_file: bool = False
    """Whether an empty file is made, rather than a directory."""

    @property
    def of_file(self) -> bool:
        """Whether it is about a file that is there, not a directory."""
        return any((place.real or place.path, place.kind) == (self.path, "file") for place in self.before)

    @property
    def title(self) -> str:
        if self.owner == "root" and not self.make:
            return f"let {self.user} read {self.path}, and not write to it"
        what = "file" if self.empty_file else "directory"
        return f"make the {what} {self.path}" if self.make else f"give {self.user} {self.path}"

    def commands(self, platform: Platform) -> list[str]:
        return [shlex.join(words) for words in self.argv()]

    def argv(self) -> list[list[str]]:
        """The words of each command, which is harmless where it has been run before."""
        commands: list[list[str]] = []
        owner = f"{self.owner or ''}:{self.group}" if self.group else self.owner
        if self.make:
            words = ["install", *([] if self.empty_file else ["-d"]), "-m", f"{self.mode or 0o750:04o}"]
            words += ["-o", self.owner or "root", *(["-g", self.group] if self.group else [])]
            commands.append([*words, *(["/dev/null"] if self.empty_file else []), self.path])
        else:
            commands += [["chown", owner, self.path]] if owner else []
            commands += [["chmod", f"{self.mode:04o}", self.path]] if self.mode is not None else []
        commands += [["chmod", f"{mode:04o}", path] for path, mode in self.opened]
        commands += [["setfacl", "-m", f"u:{self.user}:{letters}", path] for path, letters in self.grants]
        if self.label:
            commands.append(["semanage", "fcontext", "-a", "-t", self.label, f"{self.path}(/.*)?"])
            commands.append(["restorecon", "-R", self.path])
        return commands

    def undone(self, platform: Platform) -> list[str]:
        if self.make:
            return [shlex.join(["rm" if self.empty_file else "rmdir", self.path])]
        commands = [["setfacl", "-x", f"u:{self.user}", path] for path, _ in self.grants]
        changed = {path for path, _ in self.opened} | ({self.path} if self.mode is not None else set())
        for place in self.before:
            path = place.real or place.path
            if path == self.path and (self.owner or self.group):
                commands.append(["chown", f"{place.user}:{place.group}", path])
            if path in changed:
                commands.append(["chmod", f"{place.mode:04o}", path])
        return [shlex.join(words) for words in commands]
