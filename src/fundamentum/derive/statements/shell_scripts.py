"""What an installer written for the shell asks of PHP, and ends where it is missing.

``php -m | grep -q intl || exit 1``, ``php -r 'exit(PHP_VERSION_ID < 80100 ? 1 : 0);' || exit 1``
"""

import re
from collections.abc import Iterator
from typing import Final

from fundamentum.catalog.symbols import EVERYWHERE
from fundamentum.derive.beside.files_beside import files_in, line_at, texts_of
from fundamentum.derive.php_source.nodes import Patience, TooLong, parsed
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.statements.versions_compared import versions_compared
from fundamentum.model.needs_value import Level

_FOLDERS: Final = ("", "bin", "scripts", "script", "install", "setup", "tools", "deploy")
_SCRIPT: Final = re.compile(r"[\w.-]+\.(?:sh|bash)|(?:install|setup|configure|check)[\w-]*", re.I)
_SHELL: Final = re.compile(r"#!\s*\S*(?:/|\s)(?:ba|da|k|z)?sh\b")
_NAME: Final = r"\^?(?P<%s>[A-Za-z_]\w*|\$\{?\w+\}?)"
_ASKED: Final = re.compile(
    rf"\bphp[\d.]*\s+(?:-\S+\s+)*(?:-m|--modules)\b[^\n]*\|\s*[ef]?grep\s+(?:-\S+\s+)*['\"]?{_NAME % 'listed'}|"
    rf"\bextension_loaded\(\s*\\?['\"]{_NAME % 'loaded'}"
)
_RUN: Final = re.compile(r"\bphp[\d.]*\s+(?:-\S+\s+)*-r\s*(?:'(?P<plain>[^']*)'|\"(?P<quoted>(?:[^\"\\]|\\.)*)\")")
_LOOP: Final = r"\bfor\s+%s\s+in\s+(?P<members>[^;\n]+)"
_ENDS: Final = re.compile(r"\b(?:exit\s+[1-9]|die|fail\w*|abort|err(?:or)?)\b", re.I)
MAX_BEHIND: Final = 400
"""Characters behind a question in which the script ends where the answer is no."""
_ENDING: Final = "an installer ends where it is missing"
_LOOKING: Final = "an installer looks for it"


def asked_in_scripts(root: str, base: str, named: frozenset[str]) -> Iterator[Entry]:
    """The extensions that scripts ask for, but those that something else has ``named``, and PHP's least version."""
    seen = set(named)
    beside = (path for _, path in files_in(root, base, _FOLDERS) if _SCRIPT.fullmatch(path.rpartition("/")[2]))
    for path, text in texts_of(root, beside):
        if not path.endswith((".sh", ".bash")) and not _SHELL.match(text):
            continue
        for place, version in _versions(text):
            yield Entry("php", (), "required", f">={version}", _ENDING, (_place(path, text, place, "PHP's version"),))
        for place, extension in _extensions(text):
            if extension not in seen and extension not in EVERYWHERE:
                seen.add(extension)
                ends = _ENDS.search(text, place, place + MAX_BEHIND) is not None
                level: Level = "required" if ends else "recommended"
                told = (_place(path, text, place, extension),)
                yield Entry("extension", (extension,), level, "", _ENDING if ends else _LOOKING, told)


def _place(path: str, text: str, at: int, what: str) -> Place:
    return Place(path, line_at(text, at), what, "asked for by a script")


def _extensions(text: str) -> Iterator[tuple[int, str]]:
    """Place and name of what is asked for; of a variable, all that the loop around goes through."""
    for match in _ASKED.finditer(text):
        name = match["listed"] or match["loaded"]
        names = [name]
        if name.startswith("$"):
            loops = list(re.finditer(_LOOP % re.escape(name.strip("${}")), text[: match.start()]))
            names = loops[-1]["members"].replace('"', "").split() if loops else []
        yield from ((match.start(), found) for one in names if (found := extension_called(one.encode())))


def _versions(text: str) -> Iterator[tuple[int, str]]:
    """Place and least version of what is run to look at PHP's version, where the script ends by it."""
    for match in _RUN.finditer(text):
        code = f"<?php {match['plain'] or (match['quoted'] or '').replace(chr(92), '')}".encode()
        if not _ENDS.search(text, match.end(), match.end() + MAX_BEHIND):
            continue
        Patience.begin()
        try:
            compared = list(versions_compared(parsed(code), code))
        except (TooLong, RecursionError):
            continue
        bounds = [bound for one in compared for bound in (*one.holds, *one.fails)]
        yield from ((match.start(), version) for sign, version in bounds if sign == ">=" and isinstance(version, str))
