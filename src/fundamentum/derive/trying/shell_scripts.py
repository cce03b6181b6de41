"""What an installer written for the shell asks of PHP, and ends where it is missing.

``php -m | grep -q intl || exit 1``, ``php -r 'exit(PHP_VERSION_ID < 80100 ? 1 : 0);' || exit 1``
"""

import re
from collections.abc import Iterator
from contextlib import suppress
from typing import Final

from fundamentum.catalog.symbols import EVERYWHERE
from fundamentum.derive.beside.files_beside import files_in, line_at, texts_of
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.derive.result import Entry, Place
from fundamentum.derive.trying.bounds import bounds_of_code
from fundamentum.model.needs_value import Level

_FOLDERS: Final = ("", "bin", "scripts", "script", "install", "setup")
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
_ENDS_AT_ONCE: Final = re.compile(r"^\s*set\s+-\w*e|^#!.*\s-\w*e", re.M)
"""A script that ends where any command of it fails."""
MAX_BEHIND: Final = 600
"""Characters behind a question in which a script may say what comes of it."""
_ENDING: Final = "an installer ends where it is missing"
_LOOKING: Final = "an installer looks for it"


def asked_in_scripts(root: str, base: str, named: frozenset[str]) -> Iterator[Entry]:
    """The extensions that scripts ask for, but those that something else has ``named``, and PHP's least version."""
    seen = set(named)
    scripts = (path for _, path in files_in(root, base, _FOLDERS) if _SCRIPT.fullmatch(path.rpartition("/")[2]))
    for path, text in texts_of(root, scripts):
        if not path.endswith((".sh", ".bash")) and not _SHELL.match(text):
            continue
        for place, version in _versions(text):
            yield Entry("php", (), "required", f">={version}", _ENDING, (_place(path, text, place, "PHP's version"),))
        for place, extension, ends in _extensions(text):
            if extension not in seen and extension not in EVERYWHERE:
                seen.add(extension)
                level: Level = "required" if ends else "recommended"
                told = (_place(path, text, place, extension),)
                yield Entry("extension", (extension,), level, "", _ENDING if ends else _LOOKING, told)


def _place(path: str, text: str, at: int, what: str) -> Place:
    return Place(path, line_at(text, at), what, "asked for by a script")


def _extensions(text: str) -> Iterator[tuple[int, str, bool]]:
    """Place and name of what is asked for, and whether the script ends without it; of a variable, all that the loop
    around goes through."""
    for match in _ASKED.finditer(text):
        name = match["listed"] or match["loaded"]
        names = [name]
        if name.startswith("$"):
            loops = list(re.finditer(_LOOP % re.escape(name.strip("${}")), text[: match.start()]))
            names = loops[-1]["members"].replace('"', "").split() if loops else []
        there, missing = _branches(text, match)
        ends = _ENDS.search(missing) is not None
        if ends or not _ENDS.search(there):  # else it asks whether something is there that must not be
            yield from ((match.start(), extension, ends) for extension in filter(None, map(_extension, names)))


def _extension(name: str) -> str:
    return extension_called(name.encode("utf-8", "replace"))


def _versions(text: str) -> Iterator[tuple[int, str]]:
    """Place and least version of what is run to look at PHP's version, where the script ends by it."""
    for match in _RUN.finditer(text):
        code = f"<?php {match['plain'] or (match['quoted'] or '').replace(chr(92), '')}".encode()
        if not any(_ENDS.search(branch) for branch in _branches(text, match)):
            continue
        with suppress(RecursionError):
            bounds = bounds_of_code(code)
            yield from ((match.start(), bound.version) for bound in bounds if bound.operator == ">=")


def _branches(text: str, command: re.Match[str]) -> tuple[str, str]:
    """What a script does where a command succeeds, and where it fails.

    ``if command; then ... else ... fi``, ``command || { ... }``, ``command && ...``
    """
    before = text[text.rfind("\n", 0, command.start()) + 1 : command.start()]
    behind = text[command.end() : command.end() + MAX_BEHIND]
    if re.search(r"\b(?:if|elif)\b", before):
        then, _, otherwise = re.split(r"(?m)^\s*fi\b|;\s*fi\b", behind)[0].partition("else")
        return (otherwise, then) if "!" in before else (then, otherwise)
    line = behind.partition("\n")[0]
    rest = behind.partition("}")[0] if line.rstrip().endswith("{") else line
    succeeded, joined, failed = rest.partition("||")
    if joined:
        return succeeded.partition("&&")[2], failed
    return rest.partition("&&")[2], "exit 1" if _ENDS_AT_ONCE.search(text) and "&&" not in rest else ""
