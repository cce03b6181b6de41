"""Directories and files: *the directory var/cache is not writable*, *make /srv/plates writable*, *chmod 775 var*."""

import posixpath
import re
from collections.abc import Iterator
from typing import Final

from fundamentum.lazy_regex import lazy_regex
from fundamentum.prose.line import Line
from fundamentum.prose.statement import Statement, level_of

_PATH: Final = lazy_regex(
    r"(?<![\w:/.@])(?:\./)?((?:/|[A-Za-z0-9_.-]+/)(?:[A-Za-z0-9_.@+-]+/?)*|[A-Za-z0-9_-]+(?=/?[\"'`]? "
    r"(?:directory|folder))|(?:(?<=directory [\"'`])|(?<=folder [\"'`]))[\w-]+(?=[\"'`])|"
    r"(?:(?<=directory )|(?<=folder ))[\w-]+(?= (?:must|has to|needs to|should|is|to be)\b))"
)
_MODE: Final = lazy_regex(
    r"\bchmod\s+(?:-\w+\s+)*(?:[0-7]?7[67][0-7]|[ugoa]*[+=]r?w[xX]?)\s+((?:(?:\./)?\w[\w./-]*(?:\s+|[!;,)`]|$)){1,20})"
)
"""What a shell makes writable for the group, or for all."""
_SEVERAL: Final = lazy_regex(
    r"\b(?:directories|folders)\s+([\w-]+(?:(?:,\s*(?:and\s+)?|\s+and\s+)[\w/-]+){1,9})\s+"
    r"(?:must|have to|need to|should|are)\b",
    re.I,
)
_BEFORE: Final = lazy_regex(
    r"(?<![\w/-])((?:[\"'`]?\w[\w/-]*[\"'`]?(?:,\s*(?:and\s+)?|\s+and\s+)){1,9}[\"'`]?\w[\w/-]*[\"'`]?)\s+(?:directories|folders)\b",
    re.I,
)
"""*the storage and bootstrap/cache folders*"""
_ENTRY: Final = lazy_regex(r"(?:\./)?([A-Za-z0-9_][\w-]*(?:/[\w.-]+)*)/?(?=$|\s+[-–(:])")
"""What a list of directories begins with."""
_NO_NAMES: Final = frozenset(
    "the this that these those following each every any all a an your its our upload one no same".split()
)
"""Words that stand in front of *directory* and name none."""
_NO_PATHS: Final = frozenset(
    "user/group group/user owner/group database/user user/database username/password user/password read/write "
    "and/or client/server yes/no on/off tcp/ip start/stop input/output".split()
)
"""Words with a stroke between them that are two."""
_WRITABLE: Final = lazy_regex(
    r"\b(?:not )?write?able\b|\bwrite (?:access|permissions?)\b|\b(?:cannot|unable to) (?:write|create)\b|"
    r"\b(?:could|can) ?not be "
    r"written\b|(?:should|must|has to|needs to) be (?:set to )?0?7[67][0-7]\b|"
    r"\bbeschreibbar\b|\baccessible en écriture\b|\bpermission denied\b|\bread-only\b",
    re.I,
)
_FILE: Final = lazy_regex(
    r"\bfile\s+[\"'`]?(\.?[A-Za-z0-9_-]+(?:\.[A-Za-z0-9]+)?)[\"'`]?\s|"
    r"\A\W{0,4}([A-Za-z0-9_-]+\.(?:php|ini|json|ya?ml|xml|env|conf|inc))[\"'`]? (?:is|must|has|should|needs)\b"
)
"""A file that is named without a directory."""
_REFUSED: Final = lazy_regex(
    r"\b(?:fopen|file_put_contents|copy|rename|mkdir|touch|open|move_uploaded_file|symlink|tempnam|error_log)"
    r"\(((?:/[\w.@+-]{1,80}){2,20})[^()]{0,80}\).{0,120}\b(?:denied|read-only)",
    re.I,
)
"""PHP's own message about a file that it could not write: the directory does not let it."""
_ASKED_OF_ALL: Final = lazy_regex(r"\b(?:directories|folders)\b.*\bwrit|\bwrit.*\b(?:directories|folders)\b", re.I)
"""What stands above a list of directories."""


def read(line: Line) -> Iterator[Statement]:
    """Each path of a line that is about writing to it; files are for the time of the installation."""
    level = level_of(line)
    if opened := _MODE.search(line.text):
        for path in opened[1].split():
            yield Statement(("directories", level), "writable", path.removeprefix("./").rstrip("/.!;,)`"), level)
        return
    if refused := _REFUSED.search(line.text):
        yield Statement(("directories", level), "writable", posixpath.dirname(refused[1]), level)
        return
    if not _WRITABLE.search(line.text):
        entry = _ENTRY.match(line.text) if line.listed and _ASKED_OF_ALL.search(line.heading) else None
        if entry and "." not in entry[1]:
            yield Statement(("directories", level), "writable", entry[1], level)
        return
    if bare := _FILE.search(line.text):
        name = bare[1] or bare[2]
        yield from [Statement(("installation", "writable"), name)] if "." in name else []
    if several := _SEVERAL.search(line.text) or _BEFORE.search(line.text):
        names = (name.strip("\"'`") for name in re.split(r",\s*(?:and\s+)?|\s+and\s+", several[1]))
        plain = (name for name in names if "/" not in name and name.lower() not in _NO_NAMES)
        yield from (Statement(("directories", level), "writable", name, level) for name in plain)
    for match in _PATH.finditer(line.text):
        path = match[1].rstrip("/.").removeprefix("./")
        if path.lower() in _NO_NAMES or path.lower() in _NO_PATHS or path.endswith("writable"):
            continue
        if not path or re.fullmatch(r"\d[\d./]*|https?:?", path) or path.startswith("//") or ".." in path:
            continue
        if re.search(r"\.[a-z]{2,5}$", path) and not path.startswith("/"):
            yield Statement(("installation", "writable"), path)
        else:
            yield Statement(("directories", level), "writable", path, level)
