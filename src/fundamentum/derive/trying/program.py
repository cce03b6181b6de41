"""The files of a program that is tried out: which of them defines what, read when it is asked for."""

import gc
import posixpath
import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from typing import Any, Final

import msgspec

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.beside.requirement_files import table_in
from fundamentum.derive.php_source.word_search import starts_of
from fundamentum.derive.trying.defined import Defined, is_long, worth_going_through
from fundamentum.derive.trying.directories import HERE
from fundamentum.derive.trying.inheriting import members_of, named_in
from fundamentum.derive.trying.machine import Machine
from fundamentum.derive.trying.parts import Code, Part
from fundamentum.derive.trying.slices import Slices
from fundamentum.derive.trying.values import UNKNOWN, Array, Unknown

MAX_CODE: Final = 400_000
"""Bytes of a file that is gone through."""
_PLAIN: Final = re.compile(r"(?i:\.(?:json|ini|ya?ml|txt|xml)$)|(?:^|/)[A-Z][A-Z_]+$")
MAX_ALL: Final = 180_000
"""Steps of all ways that are gone with one program."""
RESERVED: Final = MAX_ALL // 4
"""Those that are left for files which are called as such are that look at what is required."""
MAX_FILES: Final = 200
"""Files that are read for one program."""
MAX_DEFINING: Final = 3
"""Files that define one constant, of which the value is looked for."""
MAX_HELD: Final = 6_000_000
"""Bytes of files whose code is held between two ways: as trees they take fifty times as much."""
_DEFINING: Final = re.compile(rb"(define\s*+\(\s*+['\"])\Z|const\s++(?:\w+\s+)?\Z")
_IS: Final = re.compile(rb"\s*+=")
MAX_BEFORE: Final = 80
"""Bytes in front of the name of a constant in which it is said that it is defined there."""
_NAMED_FILE: Final = re.compile(r"([\w./-]+\.(?:php|inc))['\"]\)?$")


class Ledger(msgspec.Struct):
    """What has been gone through by now, of all the ways or of a part of them: whoever goes on with it has it."""

    steps: int = MAX_ALL
    """Those that are left."""
    gone: set[int] = msgspec.field(default_factory=set)
    """Ways: what they came to where nothing is missing."""
    read: set[str] = msgspec.field(default_factory=set)
    """Files."""


class Program:
    """The application's own files."""

    def __init__(
        self,
        files: Sequence[SourceFile],
        defined: Mapping[str, Defined],
        content: Callable[[str], bytes],
        read_beside: Callable[[str], bytes] = lambda _: b"",
        has_directory: Callable[[str], bool] = lambda _: False,
    ) -> None:
        """``content``: that of a source file, by its path; empty where it cannot be read.  ``beside``: of any other.

        ``has_directory``: whether there is one, by its path.
        """
        self.has_directory = has_directory
        self._beside = read_beside
        self._tells: dict[Part, bool] = {}
        self.matter((), ())
        self.ledger = Ledger()
        self.paths = {file.path: file.size for file in files}
        self._content = content
        self._code: dict[str, Code | None] = {}
        self._long: dict[tuple[str, str], bool] = {}
        self._by_name: dict[str, list[str]] = {}
        for path in self.paths:
            self._by_name.setdefault(posixpath.basename(path).lower(), []).append(path)
        self._functions: dict[str, list[str]] = {}
        self._classes: dict[str, list[str]] = {}
        self._constants: dict[str, list[str]] = {}
        self._variables: dict[str, list[str]] = {}
        self.extended: dict[str, list[str]] = {}
        """Class → that which it extends, and traits that it uses."""
        self.extending: dict[str, list[str]] = {}
        """Class → those that extend it."""
        for path, names in defined.items():
            for table, told in (
                (self._functions, names.functions),
                (self._classes, names.classes),
                (self._constants, names.constants),
                (self._variables, names.variables),
            ):
                for name in told:
                    table.setdefault(name, []).append(path)
            for class_name, other in names.extends:
                self.extending.setdefault(other, []).append(class_name)
                self.extended.setdefault(class_name, []).append(other)
        self.nowhere = Code("", b"<?php").root
        self.gone_through: set[Part] = set()
        """Functions, and files that were included, since somebody last began to ask."""
        self._members: dict[str, frozenset[bytes] | None] = {}

    def code(self, path: str) -> Code | None:
        """A file's code; None: it is none that people write, or too much has been read."""
        if path not in self.ledger.read and len(self.ledger.read) >= MAX_FILES:
            return None
        self.ledger.read.add(path)
        if path in self._code:
            self._code[path] = self._code.pop(path)  # those are let go first that were last asked for
            return self._code[path]
        self._code[path] = None
        if self.paths.get(path, MAX_CODE) < MAX_CODE:
            with suppress(RecursionError):
                self._code[path] = Code(path, self._content(path))
        return self._code[path]

    def release(self) -> None:
        """Let go of the code that is held, if it is much.  No way must be on its way."""
        held = sum(len(code.data) for code in self._code.values() if code is not None)
        if held <= MAX_HELD:
            return
        for path, code in list(self._code.items()):
            if code is not None and held > MAX_HELD // 2:
                del self._code[path]
                held -= len(code.data)
        self.matter(self.relevant, self._asking)
        gc.collect()  # parts and their files hold each other

    def matter(self, relevant: Collection[str], asking: Collection[str]) -> None:
        """Say of which functions the answers matter, in lower case, and which files ask something."""
        self.relevant, self._asking = frozenset(relevant), tuple(asking)
        self.slices = Slices(relevant, asking)
        self._tells.clear()

    def tells(self, function: Part) -> bool:
        """Whether a function is worth going through: its answer matters, or it is a few lines."""
        if function not in self._tells:
            name = function.get("name")
            called_so = name.text.lower() if name is not None else ""
            size = function.node.end_byte - function.node.start_byte
            self._tells[function] = called_so in self.relevant or worth_going_through(called_so, size)
        return self._tells[function]

    def passes_over(self, machine: Machine, name: str) -> bool:
        """Whether a function is not worth going through, which is told without parsing its file."""
        if name in self.relevant or name not in self._functions:
            return False
        path = self._first(self._functions[name], machine.frame.code.path) or ""
        if (path, name) not in self._long:
            self._long[path, name] = is_long(self._content(path), name)
        return self._long[path, name]

    def _first(self, paths: Iterable[str], near: str) -> str | None:
        """Of several files the one that is nearest."""
        return min(paths, key=lambda path: (_apart(path, near), path), default=None)

    def function(self, machine: Machine, name: str) -> Part | None:
        """The function of a name, where one file alone defines it, or the nearest does."""
        path = self._first(self._functions.get(name, ()), machine.frame.code.path)
        code = self.code(path) if path is not None else None
        return code.functions.get(name) if code is not None else None

    def extending_otherwise(self, kind: str, most: int) -> Iterator[str]:
        """Those of the classes which extend one, at most so many, for which what was gone through may do otherwise."""
        extending = self.extending.get(kind, ())[:most]
        named = named_in(part.node.text or b"" for part in self.gone_through) if extending else None
        for other in extending:
            if other not in self._members:
                data = b"\n".join(map(self._content, self._classes.get(other, ())))
                self._members[other] = members_of(data, other)
            members = self._members[other]
            if members is None or named is None or not members.isdisjoint(named):
                yield other

    def defines(self, kind: str, name: str) -> bool:
        """Whether the program has a function, a class or a constant of that name."""
        if kind == "constant":
            return name in self._constants
        return name.lower() in (self._functions if kind == "function" else self._classes)

    def kind(self, machine: Machine, name: str) -> Part | None:
        """The class of a name."""
        path = self._first(self._classes.get(name, ()), machine.frame.code.path)
        code = self.code(path) if path is not None else None
        return code.classes.get(name) if code is not None else None

    def constant(self, machine: Machine, name: str) -> Any:
        """What a constant is defined as in another file: of several, where its value is known."""
        here = machine.frame.code.path
        told: Any = UNKNOWN
        for path in sorted(self._constants.get(name, ()), key=lambda path: (_apart(path, here), path))[:MAX_DEFINING]:
            code = self.code(path)
            parts = _definitions(code, name) if code is not None else ()
            told = next((machine.within(None, part) for part in parts), UNKNOWN)
            if told is not None and not isinstance(told, Unknown):
                return told
        return told

    def variable(self, machine: Machine, name: str) -> Any:
        """What a variable is given in the only file that gives it something plain; a whole file is told of others."""
        here = machine.frame.code.path if machine.entry is None else ""
        paths = [path for path in self._variables.get(name[1:], ()) if path != here]
        code = self.code(paths[0]) if len(paths) == 1 else None
        match = re.search(rb"\$%s\s*=\s*" % re.escape(name[1:].encode()), code.data) if code is not None else None
        part = code.root if code is not None and match is not None else None
        while part is not None and code is not None and match is not None:
            if part.type == "assignment_expression" and part.node.start_byte == match.start():
                return machine.within(None, right) if (right := part.get("right")) is not None else UNKNOWN
            part = next((kid for kid in part.kids if kid.node.start_byte <= match.start() < kid.node.end_byte), None)
        return UNKNOWN

    def under_key(self, machine: Machine, dotted: str) -> Any:
        """What the array that a file returns has under a key: ``installer.core.php`` is of ``installer.php``."""
        name, *keys = dotted.split(".")
        path = self._first(self._by_name.get(f"{name.lower()}.php", ()), machine.frame.code.path)
        told: Any = machine.include(path, self.nowhere) if path is not None else UNKNOWN
        for key in keys:
            told = told.items.get(key, UNKNOWN) if isinstance(told, Array) else UNKNOWN
        return told

    def included(self, machine: Machine, part: Part, told: Any) -> str | None:
        """The path of a file that is included."""
        here = machine.frame.code.path
        if isinstance(told, str) and told.startswith(HERE):
            path = posixpath.normpath(told.removeprefix(HERE).lstrip("/"))
            return path if path in self.paths else None
        written = told if isinstance(told, str) else ""
        if not written and (match := _NAMED_FILE.search(part.text[-200:])):
            written = match[1]
        name = posixpath.basename(written).lower()
        ending = written.lower().lstrip("./")
        fitting = [path for path in self._by_name.get(name, ()) if path.lower().endswith(ending)]
        return self._first(fitting, here) if name else None

    def text(self, machine: Machine, path: str) -> Any:
        """The content of a file that is no source; unknown where there is none."""
        data = b"".join(list(self._found(machine, path))[:1])
        return data.decode("utf-8", "replace") if data else UNKNOWN

    def table(self, machine: Machine, path: str) -> Any:
        """The content of such a file as a table."""
        for data in self._found(machine, path):
            with suppress(ValueError):
                return table_in(data, path)
        return UNKNOWN

    def _found(self, machine: Machine, path: str) -> Iterator[bytes]:
        """The file of a path: from the application's directory, or from one above the file that names it."""
        plain = posixpath.normpath(path.removeprefix(HERE).lstrip("/"))
        folder = machine.frame.code.path
        folders = [""] if path.startswith(HERE) else []
        while not path.startswith(HERE) and folder:
            folder = posixpath.dirname(folder)
            folders.append(folder)
        for directory in folders:
            where = posixpath.join(directory, plain)
            if not where.startswith("..") and _PLAIN.search(where) and (data := self._beside(where)):
                yield data


def _definitions(code: Code, name: str) -> Iterable[Part]:
    """The expressions that a constant is defined as in a file."""
    ends = (at + len(name) for at in starts_of(code.data, name.encode()) if _defines(code.data, at, at + len(name)))
    at = next(ends, None)
    part: Part | None = code.root if at is not None else None
    while part is not None and at is not None:
        if part.type == "function_call_expression" and "define" in part.text[:8].lower():
            arguments = part.get("arguments")
            if arguments is not None and len(arguments.kids) > 1:
                yield arguments.kids[1]
            return
        if part.type == "const_element":
            yield part.kids[-1]
            return
        part = next((kid for kid in part.kids if kid.node.start_byte < at <= kid.node.end_byte), None)


def _defines(data: bytes, start: int, end: int) -> bool:
    """Whether a constant is defined by a name that stands there."""
    before = _DEFINING.search(data, max(start - MAX_BEFORE, 0), start)
    return before is not None and (
        data[end : end + 1] in (b"'", b'"') if before[1] else _IS.match(data, end) is not None
    )


def _apart(path: str, other: str) -> int:
    """How many directories lie between two files."""
    left, right = path.split("/"), other.split("/")
    common = 0
    for first, second in zip(left, right, strict=False):
        if first != second:
            break
        common += 1
    return len(left) + len(right) - 2 * common
