"""Which extensions only the application's command-line scripts use: pages do without them."""

import re
from contextlib import suppress
from pathlib import Path, PurePosixPath
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.derive.application.tree import SourceFile
from fundamentum.derive.php_source.facts import COMMAND_LINE, Guard
from fundamentum.derive.php_source.nodes import Patience
from fundamentum.derive.result import Entry
from fundamentum.derive.statements.callers import Callers, guard_of
from fundamentum.derive.statements.reaching import Place as Reaching
from fundamentum.derive.trying.program import Program
from fundamentum.derive.trying.requests import COMMAND_LINE as COMMAND
from fundamentum.derive.trying.requests import PAGE
from fundamentum.derive.trying.running import Running
from fundamentum.derive.trying.runs import ENDS, Run
from fundamentum.derive.trying.worlds import World
from fundamentum.derive.weighing.evidence import MANY, Evidence
from fundamentum.untrusted.files import read_below

_HEAD: Final = 8192
MAX_STEPS: Final = 600
"""Steps of a file in which it has to be seen whether it refuses pages."""
_ASKS: Final = re.compile(
    rb"PHP_SAPI|php_sapi_name|argc|REQUEST_METHOD|REQUEST_URI|REMOTE_ADDR|HTTP_HOST|SERVER_NAME|GATEWAY_INTERFACE"
)
"""What a file speaks of that may look whether it is run for a page."""
_ARGUMENTS: Final = re.compile(
    rb"\$argv\s*\[|\$_SERVER\[['\"]argv['\"]\]\s*\[|\bgetopt\s*\(|(?<!['\"])\b(?:STDIN|STDOUT)\b(?!['\"])"
)
"""How scripts take what was written behind their name, or what is given to them; pages have none of it."""
_FOLDERS: Final = frozenset({"bin", "cli", "cron", "console", "daemon", "daemons"})


_COMMAND: Final = re.compile(
    rb"#\[AsCommand\b|\bextends\s+\\?(?:\w+\\)*(?:Console|Base|Abstract)?Command\b|\bextends\s+(?:\w+\\)*(?:App)?Shell\b"
)
_OF_COMMANDS: Final = frozenset({"console", "command", "commands", "shell"})
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
    """Whether a script ends where it is run for a page, and goes on where it is run from the command line."""
    if not _ASKS.search(head):
        return False

    def way(machine: Running) -> tuple[str, Any]:
        machine.most = MAX_STEPS
        return machine.whole_file("-")

    Patience.begin()
    program = Program([SourceFile("-", len(head), "own")], {}, lambda _: head)
    with suppress(RecursionError):
        page, script = (Run(program, way, World(interface=interface)) for interface in (PAGE, COMMAND))
        ends = page.end in ENDS or (page.left_at is not None and page.left_at.function_above is None)
        return ends and page.ended_at is not script.ended_at
    return False


def for_the_command_line(is_script: Scripts, entries: list[Entry], evidence: Evidence, callers: Callers) -> list[Entry]:
    """The extensions, those marked of which every use stands in a script, or is reached from scripts alone."""

    def from_scripts(path: str, place: Reaching, _: str) -> Guard:
        return "checked" if COMMAND_LINE in place.names or is_script(path) else ""

    def only(entry: Entry) -> bool:
        if entry.kind != "extension" or any(evidence.stated(name) for name in entry.names):
            return False  # a manifest speaks for the whole application
        uses = [(use, name) for name in entry.names for use in evidence.uses(name) if use.counts]
        aside = [COMMAND_LINE in use.use.names or is_script(use.file.path) for use, _ in uses]
        if not uses:
            checks = [
                (file.path, check)
                for name in entry.names
                for file, check in evidence.checks(name)
                if file.part == "own"
            ]
            in_scripts = _OF_SCRIPTS.issuperset(entry.names) and all(is_script(path) for path, _ in checks)
            return bool(checks) and (in_scripts or any(check.command_line for _, check in checks))
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
