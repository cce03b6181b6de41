"""Which extensions only the application's command-line scripts use: pages do without them."""

import re
from pathlib import Path, PurePosixPath
from typing import Final

from msgspec.structs import replace

from fundamentum.derive.php_source.facts import COMMAND_LINE
from fundamentum.derive.result import Entry
from fundamentum.derive.weighing.evidence import Whole
from fundamentum.untrusted.files import read_below

_HEAD: Final = 8192
_GATE: Final = re.compile(
    rb"(?:PHP_SAPI|php_sapi_name\s*\(\s*\))\s*!==?\s*['\"](?:cli|phpdbg)['\"]|"
    rb"['\"]cli['\"]\s*!==?\s*(?:PHP_SAPI|php_sapi_name)|\$argv\s*\[|\$_SERVER\[['\"]argv['\"]\]\s*\[|substr\s*\(\s*(?:PHP_SAPI|php_sapi_name\s*\(\s*\))"
)
"""How scripts refuse to be run by a web server, or take what was written behind their name."""
_FOLDERS: Final = frozenset({"bin", "cli", "cron", "console", "daemon", "daemons"})


class Scripts:
    """Whether a file is run by its name, refuses web servers, or stands where such files do."""

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
        return (head.startswith(b"#!") and b"php" in head.split(b"\n", 1)[0]) or _GATE.search(head) is not None


def for_the_command_line(is_script: Scripts, entries: list[Entry], whole: Whole) -> list[Entry]:
    """The extensions, those marked of which every use stands in a script for the command line."""
    return [_marked(entry, whole, is_script) if entry.kind == "extension" else entry for entry in entries]


def _marked(entry: Entry, whole: Whole, is_script: Scripts) -> Entry:
    if any(whole.stated(name) for name in entry.names):
        return entry  # a manifest speaks for the whole application
    places = [
        (use.file.path, COMMAND_LINE in use.use.names)
        for name in entry.names
        for use in whole.uses(name)
        if use.file.part in ("own", "optional") and not use.use.weak
    ] or [
        (file.path, check.command_line)
        for name in entry.names
        for file, check in whole.checks(name)
        if file.part == "own" and check.command_line
    ]
    only = bool(places) and all(aside or is_script(path) for path, aside in places)
    rule = f"{entry.rule}, by command-line scripts alone"
    return replace(entry, way="command_line", rule=rule) if only else entry
