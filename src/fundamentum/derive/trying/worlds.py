"""What a program asks about the server it runs on, and how a server answers that lacks something."""

import re
from collections.abc import Mapping
from types import MappingProxyType
from typing import Any, Final, NamedTuple

from fundamentum.catalog import canonical
from fundamentum.catalog.symbols import APART_ONCE, EVERYWHERE, span_in_php
from fundamentum.derive.families import TOOLS
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.php_source.source import CHECKS
from fundamentum.derive.statements.checks import asked_for
from fundamentum.derive.statements.host_functions import OF_PROGRAM, stands_for
from fundamentum.derive.statements.requirement_names import looks_at_requirements
from fundamentum.derive.statements.wishes import COMMANDS
from fundamentum.derive.trying import beneath, directories
from fundamentum.derive.trying.commands import at_path, started, told_by
from fundamentum.derive.trying.machine import Given, Machine, Thrown
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.usual_settings import DIRECTIVE, GONE, SETTINGS
from fundamentum.derive.trying.values import (
    UNKNOWN,
    Array,
    BoundMethod,
    Closure,
    Instance,
    Kind,
    Loaded,
    OneOf,
    Text,
    lifted,
)
from fundamentum.derive.trying.versions import Looks, Version
from fundamentum.derive.trying.written_places import WRITING, written_to

PHP: Final = "PHP"
"""Its version, among what is asked for."""
NEWEST: Final[Version] = (8, 3, 12)
_PARTS: Final = {"PHP_MAJOR_VERSION": 0, "PHP_MINOR_VERSION": 1, "PHP_RELEASE_VERSION": 2}
_SYSTEM: Final[dict[str, Any]] = {
    "PHP_OS": "Linux", "PHP_OS_FAMILY": "Linux", "PHP_EOL": "\n", "DIRECTORY_SEPARATOR": "/", "PATH_SEPARATOR": ":",
    "ARRAY_FILTER_USE_KEY": "key", "ARRAY_FILTER_USE_BOTH": "both",
}  # fmt: skip


_NAME: Final = re.compile(r"[\w .-]*")
_OF_TESTS: Final = re.compile(r"(?:^|_)(?:UNIT_?)?TEST(?:S|ING|SUITE|_?MODE)?(?:_|$)")
"""Constants that are defined where a program is tested, which is never so on a server."""


_LISTS: Final = frozenset(
    "collection arrayobject arrayiterator arraycollection splqueue splstack spldoublylinkedlist "
    "splobjectstorage".split()
)
"""Classes of which an object is a list."""


_STREAMS: Final = ("popen", "proc_open")
"""Functions that start a program and give out what it is spoken to with."""
_OF_FILES: Final = ("is_executable", "file_exists", "is_file")
"""Functions that look for a program where it stands."""
_OF_NAMES: Final = {"reflectionfunction": "function_exists", "reflectionclass": "class_exists"}
"""Classes of which an object can be made only where there is what it is told the name of, and what asks the same."""


class Asked(NamedTuple):
    """One place that asks for something."""

    order: int
    part: Part
    """What asks."""
    where: Part
    """Where the name stands."""
    doubt: int
    """On how many things that hangs which are not known."""
    listed: bool = False
    """Whether a list is held against what is there."""


MAX_PLACES: Final = 40
MAX_OPEN: Final = 4
"""Functions that call each other, of which the callers are looked for where the last asks for what it is given."""
_ENDS: Final = re.compile(r"\bthrow\b|\bexit\b|\bdie\b")


class World:
    """One state of a server."""

    def __init__(
        self,
        missing: frozenset[str] = frozenset(),
        version: Version = NEWEST,
        settings: Mapping[str, str] = MappingProxyType({}),
        interface: str = "",
        *,
        sends: bool = True,
    ) -> None:
        """``missing``: extensions that are not there, though they usually are; of tools for developers, that are there.

        ``settings``: those that are not as they are on a server where there is plenty.

        ``interface``: by what it is run, as PHP calls that; empty: it may be a page, or the command line.
        ``sends``: whoever asks for the page may send something with it.
        """
        self.sends = sends
        self.sent_asked = False
        """Whether the program asked for what is sent with a request."""
        self.interface = interface
        self.interface_asked = False
        """Whether the program asked by what it is run: ``PHP_SAPI``"""
        self.missing, self.version, self.settings = missing, version, settings
        self.lacks = missing ^ TOOLS
        """All that is not there."""
        self.asked: dict[str, list[Asked]] = {}
        self.listing = 0
        self.answers = 0
        """How often something was asked for that a server has or has not."""
        self.open: set[Part] = set()
        """Functions that ask for what they are given."""
        self.open_files: set[str] = set()
        self.started: dict[str, Part] = {}
        """Programs that were started, and where."""
        self.written: dict[str, Part] = {}
        """Directories in which files were written, and where."""
        self.looks = Looks(version)

    def answers_like(self, other: "World") -> bool:
        """Whether a program that was gone through here would come by the same answers on another server."""
        settings = self.settings.items() ^ other.settings.items()
        differing = (self.missing ^ other.missing) | {f"{DIRECTIVE}{name}" for name, _ in settings}
        same_version = other.version == self.version or self.looks.same_on(other.version)
        return same_version and differing.isdisjoint(self.asked)

    def ask(self, machine: Machine, name: str, part: Part, value: Any = None) -> bool:
        """Whether an extension, or a function that hosts switch off, is there."""
        places = self.asked.setdefault(name, [])
        if len(places) < MAX_PLACES:
            where = value.part if isinstance(value, Text) else part
            places.append(Asked(machine.steps, part, where, machine.doubt, self.listing > 0))
        self.answers += name != PHP and not name.startswith(DIRECTIVE)
        return name not in self.lacks

    def held(self, machine: Machine, extension: Loaded, value: Any) -> Any:
        """Whether a list of what the server has holds something."""
        if not isinstance(value, str):
            self.opened(machine)
            return UNKNOWN
        if not _NAME.fullmatch(value):
            return extension.absent  # several names in one text
        part = machine.place
        if extension.kind == "function":
            name = stands_for(value)
        else:
            name = extension_called(f"{'pdo_' if extension.kind == 'driver' else ''}{value}".encode("utf-8", "replace"))
        if not name:
            return UNKNOWN
        return self.ask(machine, name, part, value) is not extension.absent

    def answer(self, machine: Machine, name: str, given: Given, part: Part) -> Any:
        """What one of PHP's functions tells of the server; ``NotImplemented``: it tells nothing of it."""
        value = given.at(0)
        if name in CHECKS and (given.values or name != "phpversion"):
            return self._checked(machine, name, value, part)
        if name == "phpversion":
            return self._version(machine, "PHP_VERSION", part)
        if name in directories.ASKING:
            may = self._writable(machine, value, part)
            if name != directories.RIGHTS:
                return may
            return lifted(lambda allowed: directories.ALL_RIGHTS if allowed else directories.NO_RIGHTS, may)
        if name == "php_sapi_name":
            return self._interface()
        if name == "get_loaded_extensions":
            return Loaded("extension")
        if name == "pdo_drivers":
            return Loaded("driver")
        if name in COMMANDS and (command := self._started(machine, given, part)) and name not in _STREAMS:
            there = self.ask(machine, f"{command}{OF_PROGRAM}", part, value)
            return told_by(machine, name, given, command, there)
        if name in _OF_FILES and (program := at_path(value)):
            return self.ask(machine, f"{program}{OF_PROGRAM}", part, value)
        if name in WRITING and (directory := written_to(machine, name, part, given)):
            self.written.setdefault(directory, part)
        if name in beneath.ASKED_FOR:
            return self._beneath(machine, name, part)
        if name in ("ini_get", "get_cfg_var"):
            if isinstance(value, OneOf):
                return lifted(lambda setting: self._setting(machine, setting, part), value)
            return self._setting(machine, value, part)
        return NotImplemented

    def _setting(self, machine: Machine, name: Any, part: Part) -> Any:
        if name == "disable_functions":
            return Loaded("function", absent=True)
        if not isinstance(name, str):
            self.opened(machine)
        if name in GONE:
            return False
        if not isinstance(name, str) or name not in SETTINGS:
            return UNKNOWN
        self.ask(machine, f"{DIRECTIVE}{name}", part, name)
        return self.settings.get(name, SETTINGS[name])

    def _started(self, machine: Machine, given: Given, part: Part) -> str:
        """The program that is started, which is remembered; one may be looked for by a function that is given its name.

        Empty: it is not known.
        """
        if command := started(machine, part, given):
            self.started.setdefault(command, part)
        elif not isinstance(given.at(0), str) and looks_at_requirements(machine.frame.code.path, ""):
            self.opened(machine)
        return command

    def _writable(self, machine: Machine, value: Any, part: Part) -> Any:
        """Whether the program may write to a directory."""
        if isinstance(value, OneOf):
            return lifted(lambda path: self._writable(machine, path, part), value)
        above = part.function_above
        ends = above is not None and _ENDS.search(above.text) is not None
        if not isinstance(value, str) and (ends or looks_at_requirements(machine.frame.code.path, "")):
            self.opened(machine)
        entry = machine.frames[0].code.path if machine.frames[0].part is None else None
        name = directories.asked_as(value, entry)
        return self.ask(machine, name, part, value) if name else UNKNOWN

    def _checked(self, machine: Machine, name: str, value: Any, part: Part) -> Any:
        kind = CHECKS[name]
        if isinstance(value, OneOf):
            return lifted(lambda one: self._checked(machine, name, one, part), value)
        if isinstance(value, (Closure, BoundMethod)):
            return True
        if name == "is_callable" and isinstance(value, (bool, int, float, type(None))):
            return False
        if isinstance(value, Array) and value.items:
            value, kind = value.values()[0], "class"
        if not isinstance(value, str):
            self.opened(machine)
            return UNKNOWN
        if kind == "constant" and value.startswith("PHP_"):
            return True
        if kind == "constant" and _OF_TESTS.search(value) and not machine.program.defines(kind, value):
            return False
        extensions = asked_for(kind, value)
        if not extensions and (of_php := self._of_php_itself(machine, kind, value, part)) is not None:
            return of_php
        if not extensions:
            plain = value.lstrip("\\").rpartition("\\")[2]
            own = kind in ("function", "class") and machine.program.defines(kind, plain)
            if own or kind not in ("function", "class"):
                return True if own else UNKNOWN
            # No function is called as an extension is, nor as a class: ``is_callable('curl')`` where a row is either.
            other = "extension" if name == "is_callable" else "class" if kind == "function" else "function"
            return False if asked_for(other, value) else UNKNOWN
        asked = [self.ask(machine, extension, part, value) for extension in extensions]
        there = any(asked)
        if name == "phpversion":
            version = self._tells(machine, f"{beneath.EXTENSION}{extensions[0]}", part)
            return (version or beneath.dotted(beneath.OF_EXTENSION)) if there else False
        if there and kind == "function" and (feature := beneath.OF_FEATURES.get(value.lstrip("\\").lower())):
            return self._tells(machine, feature, part) is None
        return there if name != "get_extension_funcs" else Array.of(["x"]) if there else False

    def _of_php_itself(self, machine: Machine, kind: str, value: str, part: Part) -> bool | None:
        """Whether PHP has something without any extension, which may depend on its version; None: it never has."""
        self.answers += 1
        if kind == "extension":
            return True if canonical(value) in EVERYWHERE - APART_ONCE else None
        span = span_in_php(kind, value.lstrip("\\"))  # type: ignore[arg-type]
        if span is None:
            return None
        for branch in filter(None, span):
            self.ask(machine, PHP, part, value)
            self.looks.held_against(self.looks.text, branch)
        since, gone = (tuple(map(int, branch.split("."))) for branch in (span[0] or "0", span[1] or "99"))
        return since <= self.version < gone

    def opened(self, machine: Machine) -> None:
        """The function around asks for what it is given; or the file, for what another one gives it."""
        named = False
        for frame in machine.frames[-MAX_OPEN:]:
            part = frame.part
            while part is not None:
                if part.get("name") is not None:
                    self.open.add(part)
                    named = True
                    break
                part = part.function_above  # of a function without a name the one in which it stands
        if machine.frame.part is None or not named:
            self.open_files.add(machine.frame.code.path)

    def answer_static(self, machine: Machine, kind: str, name: str, given: Given, part: Part) -> Any:
        """The same of a method of one of PHP's classes."""
        if kind == "pdo" and name == "getavailabledrivers":
            return Loaded("driver")
        if (method := f"{kind}::{name}") in beneath.TELLING:
            return self._beneath(machine, method, part)
        if (kind in ("collection", "arr") and name in ("make", "wrap")) or (kind, name) == ("closure", "fromcallable"):
            return given.at(0)
        return NotImplemented

    def answer_made(self, machine: Machine, name: str, given: Given, part: Part) -> Any:
        """The same of an object of one of PHP's classes."""
        if name in _LISTS:
            return given.at(0) if given.values else Array()
        if name == "reflectionextension" and isinstance(given.at(0), str):
            extension = extension_called(given.at(0).encode("utf-8", "replace"))
            if extension and not self.ask(machine, extension, part, given.at(0)):
                raise Thrown(Instance(Kind("reflectionexception", None, None, whole=True), made=True), part)
            return UNKNOWN
        if name in _OF_NAMES and isinstance(given.at(0), str):
            if self._checked(machine, _OF_NAMES[name], given.at(0), part) is False:
                raise Thrown(Instance(Kind("reflectionexception", None, None, whole=True), made=True), part)
            return UNKNOWN
        return NotImplemented

    def constant(self, machine: Machine, name: str, part: Part) -> Any:
        """One of PHP's own constants; ``NotImplemented``: it tells nothing of the server."""
        if name in _PARTS or name in ("PHP_VERSION", "PHP_VERSION_ID"):
            return self._version(machine, name, part)
        if name == "PHP_SAPI":
            return self._interface()
        return _SYSTEM[name] if name in _SYSTEM else self._beneath(machine, name, part)

    def _beneath(self, machine: Machine, name: str, part: Part) -> Any:
        """What tells of what lies beneath PHP; ``NotImplemented``: it does not."""

        def there(extension: str) -> bool:
            if not name.isupper():
                return extension not in self.lacks
            if not self.ask(machine, extension, part):
                raise Thrown(
                    Instance(Kind("error", None, None, whole=True), made=True), part
                )  # no constant of that name
            return True

        return beneath.of_php(name, there, lambda what: self._tells(machine, what, part))

    def _tells(self, machine: Machine, what: str, part: Part) -> str | None:
        """Remember that a version, or how PHP was built, is asked for; what it is here, if not as usual."""
        self.ask(machine, f"{DIRECTIVE}{what}", part)
        return self.settings.get(what)

    def _interface(self) -> Any:
        self.interface_asked = True
        return self.interface or UNKNOWN

    def _version(self, machine: Machine, name: str, part: Part) -> Any:
        self.ask(machine, PHP, part)
        if name not in _PARTS:
            return self.looks.number if name == "PHP_VERSION_ID" else self.looks.text
        self.looks.apart = True
        return self.version[_PARTS[name]]
