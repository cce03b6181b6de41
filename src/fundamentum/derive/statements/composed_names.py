"""Names that a program puts together while it runs, of classes, functions and files: one of several is chosen so.

``new (ucfirst($kind) . 'Fetcher')``, ``include "fetch/$kind.php";``, ``$method = 'by' . $kind;``
"""

import re
from collections.abc import Iterable, Iterator
from typing import Final, NamedTuple

from fundamentum.derive.application.tree import Each, SourceFile

_VARIABLE: Final = (
    rb"(?P<chosen>\$\w{1,40}(?:->\w{1,40}|::\w{1,40}|\[['\"]?\w{1,40}['\"]?\]){0,3})[^;.,'\"]{0,20}"
    rb"(?:\.\s*+(?P<last>['\"])(?P<after>[\w.]{1,40})(?P=last))"
)
"""A variable, what closes around it, and the end of the name: ``ucfirst($config['kind']) . 'Fetcher'``"""
_BEGUN: Final = re.compile(
    rb"(?P<first>['\"])(?P<before>[\w\\/.-]{1,80})(?P=first)\s*+\.\s*+(?:\w{1,20}\(\s{0,3}){0,3}" + _VARIABLE + rb"?"
)
_ENDED: Final = re.compile(rb"(?P<before>)" + _VARIABLE)
_TEMPLATE: Final = re.compile(
    rb"\"(?P<before>[\w\\/.-]{0,80})(?P<chosen>\{\$[\w>\[\]'\"-]{1,60}\}|\$\w{1,40})(?P<after>[\w.]{0,40})\""
)
_CALLS: Final = re.compile(
    rb"\bnew\s+\$|\bnew\s*\(|\$\w+\s*\(|->\s*\$|->\s*\{|::\s*\$\w+\s*\(|\$\w+::|call_user_func|class_exists|\binclude|\brequire",
    re.I,
)
"""What a file does that uses such a name."""
_OF_FILES: Final = (".php", ".inc", ".class.php")
_EVERYDAY: Final = frozenset({"get", "set", "is", "has", "on", "do", "test", "action", "handle", "_get", "_set"})
"""Beginnings of methods that stand for properties and events."""
_BY_VISITOR: Final = re.compile(
    rb"\$_(?:GET|POST|REQUEST|SERVER)\b|page|action|view|class|template|lang|section|route|controller|script|step|task|"
    rb"\btab\b|\bop\b|\bdo\b|\bcmd\b",
    re.I,
)
"""How variables are called that hold which page is asked for, or which class is looked for to be loaded."""
_OF_PARTS: Final = re.compile(rb"file|path|module|name\b", re.I)
"""The same of what is put together to the name of a file."""
MIN_LETTERS: Final = 3
MAX_NAMES: Final = 200
"""Names of one file that are put together."""
MAX_TOGETHER: Final = 1000
"""Names of a whole program: every use of an extension that can be chosen is held against each."""


class Composed(NamedTuple):
    """What stands before and behind the part that is chosen, in lower case."""

    before: str
    after: str

    def chosen(self, name: str) -> str:
        """The part of a name, in lower case, that was chosen; empty: it is no such name."""
        fits = name.startswith(self.before) and name.endswith(self.after)
        return name[len(self.before) : len(name) - len(self.after)] if fits else ""

    def chosen_file(self, path: str) -> tuple[str, str]:
        """The same of a path, behind the directory in which it lies; two empty ones: it is no such file."""
        whole = f"/{path}"
        at = whole.rfind(f"/{self.before}") + 1 if whole.endswith(self.after) else 0
        middle = whole[at + len(self.before) : len(whole) - len(self.after)] if at else ""
        return ("", "") if "/" in middle or not middle else (whole[:at], middle)

    @property
    def of_file(self) -> bool:
        return self.after.endswith(_OF_FILES)


def composed_names(each: Each, files: Iterable[SourceFile]) -> list[Composed]:
    """All of a program, each once, in the order of its files."""
    own = [file for file in files if file.part in ("own", "optional")]
    every = dict.fromkeys(Composed(*pair) for _, pairs in each(_in_file, own, None) for pair in pairs)
    return list(every)[:MAX_TOGETHER]


def _in_file(data: bytes, _: object) -> list[tuple[str, str]]:
    return list(dict.fromkeys(_pairs(data)))[:MAX_NAMES] if _CALLS.search(data) else []


def _pairs(data: bytes) -> Iterator[tuple[str, str]]:
    for pattern in (_BEGUN, _ENDED, _TEMPLATE):
        for match in pattern.finditer(data):
            before = match["before"].decode("latin-1").lower()
            after = (match["after"] or b"").decode("latin-1").lower()
            of_file = after.endswith(_OF_FILES)
            if _BY_VISITOR.search(match["chosen"]) or (of_file and _OF_PARTS.search(match["chosen"])):
                continue
            before = _last_directory(before) if of_file else re.split(r"[\\/]", before)[-1]
            letters = sum(map(str.isalpha, before if of_file else before + after))
            if letters >= MIN_LETTERS and (after or before not in _EVERYDAY):
                yield before, after


def _last_directory(path: str) -> str:
    """The end of a path: the last directory in it, and what stands behind: ``../inc/fetch/`` → ``fetch/``"""
    directories, _, name = path.rpartition("/")
    last = directories.rpartition("/")[2]
    return f"{last}/{name}" if last.strip(".") else name
