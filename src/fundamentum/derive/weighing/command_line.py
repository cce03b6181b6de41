"""Which extensions only the application's command-line scripts use: pages do without them."""

import re
from pathlib import Path, PurePosixPath
from typing import Final

from msgspec.structs import replace

from fundamentum.derive.php_source.facts import COMMAND_LINE, Guard
from fundamentum.derive.result import Entry
from fundamentum.derive.statements.callers import Callers, guard_of
from fundamentum.derive.statements.reaching import Place as Reaching
from fundamentum.derive.weighing.evidence import MANY, Whole
from fundamentum.untrusted.files import read_below

_HEAD: Final = 8192
_INTERFACE: Final = rb"\\?(?:PHP_SAPI|php_sapi_name\s*\(\s*\))"
_CLI: Final = rb"['\"](?:cli|phpdbg)['\"]"
_OR: Final = rb"\s*\)?\s*(?:or\b|\|\|)"
_OTHER_INTERFACE: Final = re.compile(
    rb"(?:[(|]|^)\s*(?:%s)"
    % b"|".join(
        (
            _INTERFACE + rb"\s*!==?\s*" + _CLI,
            _CLI + rb"\s*!==?\s*" + _INTERFACE,
            rb"substr\s*\(\s*" + _INTERFACE + rb"[^)]*\)\s*!==?\s*" + _CLI,
            rb"!\s*\(?\s*" + _INTERFACE + rb"\s*===?\s*" + _CLI,
            _INTERFACE + rb"\s*===?\s*" + _CLI + _OR,
            _CLI + rb"\s*===?\s*" + _INTERFACE + _OR,
        )
    ),
    re.M,
)
"""A condition that holds for pages, first or as one of several of which one is enough."""
_ENDS: Final = re.compile(rb"\b(?:exit|die|throw)\b")
_LEAVES: Final = re.compile(rb"\s*\)\s*\{?\s*return\b")
_INSERTED: Final = re.compile(rb"\{\$[^{}]*\}")
_NEAR: Final = 400
"""Bytes behind a condition among which it stands what is done then."""
_ARGUMENTS: Final = re.compile(rb"\$argv\s*\[|\$_SERVER\[['\"]argv['\"]\]\s*\[")
"""How scripts take what was written behind their name."""
_FOLDERS: Final = frozenset({"bin", "cli", "cron", "console", "daemon", "daemons"})


_COMMAND: Final = re.compile(rb"#\[AsCommand\b|\bextends\s+\\?(?:\w+\\)*(?:Console|Base|Abstract)?Command\b")
_OF_COMMANDS: Final = frozenset({"console", "command", "commands"})
"""Classes that are commands of a console, and the directories in which they stand."""
_OF_SCRIPTS: Final = frozenset(
    "pcntl posix readline sockets inotify ev event swoole sysvmsg sysvsem sysvshm shmop parallel pthreads".split()
)
"""Extensions for programs that run on their own: a page that uses one is rare."""


class Scripts:
    """Whether a file is run by its name, refuses web servers, is a command, or stands where such files do."""

    def __init__(self, root: str) -> None:
        self.root = root
        self._known: dict[str, bool] = {}

    def __call__(self, path: str) -> bool:
        """Is it such a script?"""
        if path not in self._known:
            self._known[path] = self._is_script(path)
        return self._known[path]

    def _is_script(self, path: str) -> bool:
        if _FOLDERS.intersection(PurePosixPath(path).parts[:-1][:2]):
            return True
        try:
            head = read_below(Path(self.root), path, _HEAD)
        except OSError:
            return False
        if _OF_COMMANDS.intersection(path.lower().split("/")[:-1]) and _COMMAND.search(head):
            return True
        by_name = head.startswith(b"#!") and b"php" in head.split(b"\n", 1)[0]
        return by_name or _ARGUMENTS.search(head) is not None or refuses_pages(head)


def refuses_pages(head: bytes) -> bool:
    """Whether a script ends where it is not run from the command line."""
    for found in _OTHER_INTERFACE.finditer(head):
        behind = _INSERTED.sub(b"", head[found.end() : found.end() + _NEAR])
        block, statement = behind.find(b"{"), behind.find(b";")
        then = behind.partition(b"}")[0] if 0 <= block < statement else behind.partition(b";")[0]
        at_top = head[: found.start()].rpartition(b"\n")[2].removeprefix(b"<?php").strip() == b"if"
        indented = head[: found.start()].rpartition(b"\n")[2][:1].isspace()
        if _ENDS.search(then) or (at_top and not indented and _LEAVES.match(behind)):
            return True
    return False


def for_the_command_line(is_script: Scripts, entries: list[Entry], whole: Whole, callers: Callers) -> list[Entry]:
    """The extensions, those marked of which every use stands in a script, or is reached from scripts alone."""

    def from_scripts(path: str, place: Reaching, _: str) -> Guard:
        return "checked" if COMMAND_LINE in place.names or is_script(path) else ""

    def only(entry: Entry) -> bool:
        if entry.kind != "extension" or any(whole.stated(name) for name in entry.names):
            return False  # a manifest speaks for the whole application
        uses = [(use, name) for name in entry.names for use in whole.uses(name) if use.counts]
        aside = [COMMAND_LINE in use.use.names or is_script(use.file.path) for use, _ in uses]
        if not uses:
            return any(
                file.part == "own" and check.command_line for name in entry.names for file, check in whole.checks(name)
            )
        if all(aside) or not (any(aside) or _OF_SCRIPTS.issuperset(entry.names)):
            return all(aside)
        inside = [(use.file.path, use.use, name) for (use, name), out in zip(uses, aside, strict=True) if not out]
        reached = callers.reached(inside, (), from_scripts) if len(inside) <= MANY else {}
        return all(guard_of(path, use, name, reached) for path, use, name in inside)

    return [
        replace(entry, way="command_line", rule=f"{entry.rule}, by command-line scripts alone")
        if only(entry)
        else entry
        for entry in entries
    ]
