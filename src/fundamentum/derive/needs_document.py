"""One need that was derived, as it stands in the document of a needs file: put in, changed, taken out."""

import re
from collections.abc import Mapping
from typing import Final

import tomlkit
from tomlkit.items import Table

from fundamentum.derive.result import Entry
from fundamentum.errors import InputError

LEVEL_TABLES: Final = ("required", "recommended")
_TABLES: Final = {
    "extension": "extensions",
    "absent": "extensions",
    "library": "libraries",
    "feature": "features",
    "loader": "loaders",
    "setting": "settings",
    "database": "database",
    "service": "services",
    "function": "functions",
    "command": "commands",
    "directory": "directories",
    "host": "host",
    "task": "tasks",
    "web": "web",
}
"""Where in a needs file each kind stands that has a place for each level."""
BUILDS: Final[Mapping[str, int]] = {"64": 64, "32": 32, "true": True, "false": False}
"""How a build is to be, in the words of what is derived; what is none of these is a branch of PHP."""


def table_of(parent: tomlkit.TOMLDocument | Table, name: str) -> Table:
    """A table of a document, made where it is not there yet; an ``InputError`` for something else of that name."""
    if name not in parent:
        parent.add(name, tomlkit.table())
    table = parent[name]
    if not isinstance(table, Table):
        raise InputError("needs file", f"[{name}] must be a table")
    return table


def put(document: tomlkit.TOMLDocument, key: str, entry: Entry | None) -> None:
    """Put one need into the document in place of what is there under its key; None: take it out."""
    kind, _, names = key.partition(":")
    if kind in ("php", "uploads", "unread"):
        _set_values(document, kind, names, entry)
        return
    table = table_of(document, _TABLES[kind])
    if kind == "feature":
        extension, _, feature = names.partition(":")
        for level in LEVEL_TABLES:
            listed = table.get(level, {}).get(extension, ())
            if feature in listed:
                listed.remove(feature)
        if entry is not None:
            table_of(table, entry.level).setdefault(extension, tomlkit.array()).append(feature)
        return
    if kind == "web":
        _set_module(table, names.partition(":")[2], entry)
        return
    if kind in ("setting", "directory", "host", "task"):
        for level in LEVEL_TABLES:
            if level in table:
                table[level].pop(names, None)
        if entry is not None:
            table_of(table, entry.level)[names] = entry.value
        return
    levels = ("absent",) if kind == "absent" else LEVEL_TABLES
    tables = [table, *([table["command_line"]] if "command_line" in table else [])]
    for listed in (written[level] for written in tables for level in levels if level in written):
        for at in range(len(listed) - 1, -1, -1):
            if "|".join(_plain(part) for part in str(listed[at]).split("|")) == names.lower():
                del listed[at]
    if entry is not None:
        level = "absent" if kind == "absent" else entry.level
        table = table_of(table, entry.way) if entry.way else table
        if level not in table:
            table.add(level, tomlkit.array())
        listed = table[level]
        alternatives = " | ".join(names.split("|"))
        listed.append(entry.value if kind == "database" and entry.value else f"{alternatives} {entry.value}".strip())
        listed.multiline(len(listed) > 5)


def _set_values(document: tomlkit.TOMLDocument, kind: str, names: str, entry: Entry | None) -> None:
    """A need that is a value of its own in its table, or a few."""
    table = table_of(document, kind)
    if kind == "php":
        name = names or "version"
        written = {name: tomlkit.item(BUILDS.get(entry.value, entry.value)) if names else entry.value} if entry else {}
    elif kind == "uploads":
        name = "largest"
        written = {"largest": entry.value, "level": entry.level} if entry else {}
        table.pop("level", None)
    else:
        name = names
        written = {names: entry.value} if entry else {}
    table.pop(name, None)
    for key, value in written.items():
        table[key] = value
    if kind == "unread" and not table:
        document.pop(kind)


def _set_module(table: Table, module: str, entry: Entry | None) -> None:
    """A module of the web server, in the list of its level."""
    for name in ("modules", "recommended_modules"):
        if module in table.get(name, ()):
            table[name].remove(module)
    if entry is not None:
        name = "modules" if entry.level == "required" else "recommended_modules"
        if name not in table:
            table.add(name, tomlkit.array())
        table[name].append(module)


def _plain(alternative: str) -> str:
    """One of several alternatives, without the versions that a person may have written behind it."""
    return re.split(r"[<>=!]", alternative)[0].strip().lower()
