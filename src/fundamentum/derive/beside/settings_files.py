"""Settings that an application's own files ask for: ``.user.ini``, ``.htaccess``, samples of ``php.ini``."""

import re
from collections.abc import Iterable, Iterator
from pathlib import Path, PurePosixPath
from typing import Final

from fundamentum.catalog import facts as facts_of
from fundamentum.catalog.quantity import quantity
from fundamentum.derive.families import LIMITS
from fundamentum.derive.php_source.facts import Wish
from fundamentum.untrusted.files import read_below

MAX_SIZE: Final = 1024 * 1024
MAX_LINES: Final = 400
"""A whole php.ini, copied from PHP, has more, and says nothing about the application."""
_HTACCESS: Final = re.compile(r"^\s*php_(?:admin_)?(?P<kind>value|flag)\s+(?P<name>[\w.]+)\s+(?P<value>.+?)\s*$", re.I)
_INI: Final = re.compile(r"^\s*(?P<name>[A-Za-z_][\w.]*)\s*=\s*(?P<value>[^;]*?)\s*(?:;.*)?$")
_ON, _OFF = ("on", "yes", "true", "1"), ("off", "no", "false", "0", "none", "")
_ASIDE: Final = frozenset(
    {"error_reporting", "include_path", "error_log", "display_errors", "display_startup_errors", "log_errors",
     "auto_prepend_file", "auto_append_file", "date.timezone", "extension", "zend_extension", "extension_dir"}
)  # fmt: skip
"""Directives that say something about one server, not about the application."""


def wishes_of_files(root: Path, paths: Iterable[str]) -> Iterator[tuple[str, Wish]]:
    """(path, wish) for every setting that such a file of the application's gives."""
    for path in paths:
        name = PurePosixPath(path).name.lower()
        ini = name.endswith(".ini") or "php.ini" in name
        if not ini and "htaccess" not in name:
            continue
        try:
            text = read_below(root, path, MAX_SIZE).decode("utf-8", "replace")
        except OSError:
            continue
        lines = text.splitlines()
        if ini and len(lines) > MAX_LINES:
            continue
        for number, line in enumerate(lines, 1):
            match = (_INI if ini else _HTACCESS).match(line)
            if match is None:
                continue
            wish = setting_wish(match["name"], match["value"].strip("\"' "), number)
            if wish is not None:
                yield path, wish


def setting_wish(name: str, value: str, line: int) -> Wish | None:
    """A directive that is set to a value, as a need; None: it says nothing of the application."""
    if name in _ASIDE or (name not in facts_of("8.2").directives and name not in facts_of("7.4").directives):
        return None
    how = f"{name} = {value}"[:80]
    if name in LIMITS or re.fullmatch(r"\d+[kKmMgG]", value):
        if not re.fullmatch(r"-?\d+\s*[kKmMgG]?", value) or quantity(value).number <= 0:
            return None
        return Wish("setting", name, f">= {value}", line, how)
    if facts_of("8.2").default(name, "fpm") not in (None, "", "0", "1"):
        return None  # a number, not a switch
    if value.lower() in _ON:
        return Wish("setting", name, "on", line, how)
    if value.lower() in _OFF:
        return Wish("setting", name, "off", line, how)
    return None
