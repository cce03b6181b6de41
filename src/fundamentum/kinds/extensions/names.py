"""What is meant by a name in a list of extensions: pages and people write packages, files and older names too."""

import re
from typing import Final, Literal

from fundamentum.catalog import canonical
from fundamentum.catalog.words import said
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.needs_value import NotUnderstood

Way = Literal["", "web", "command_line"]
"""For which way of running PHP a need holds; empty: for each."""
WAYS: Final[tuple[Way, ...]] = ("", "web", "command_line")
_NAME: Final = lazy_regex(r"[A-Za-z][A-Za-z0-9_ -]{0,63}")
_PACKAGE: Final = lazy_regex(r"(?:php[0-9.]*-|ext[-/]|pecl-|php_(?=.*\.dll$))(.+)", re.I)
_FILE: Final = lazy_regex(r"(?:php_)?(.+)\.(?:so|dll)", re.I)
_SERVER_MODULE: Final = lazy_regex(r"mod_([a-z0-9_]+)")


def meant(text: str) -> str:
    """The extension that a name means, as findings name it: ``gd`` of ``php8.2-gd``, ``gd2`` and ``php_gd2.dll``."""
    name = text.strip()
    for shape in (_PACKAGE, _FILE):
        if match := shape.fullmatch(name):
            name = match[1]
    lowered = re.sub(r"\.(so|dll)$", "", name.lower())
    if match := _SERVER_MODULE.fullmatch(lowered):
        what = f'a module of a web server: write [web] modules = ["{match[1]}"]'
    else:
        what = said("no_extensions").get(lowered, "") if lowered != "mysql" else ""
    if what:
        raise NotUnderstood(f"'{text.strip()}' is no extension, but {what}")
    if not _NAME.fullmatch(name):
        raise NotUnderstood(f"'{text.strip()}' is no extension name")
    return canonical(said("extensions").get(lowered, name))
