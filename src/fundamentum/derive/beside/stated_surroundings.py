"""What an application's own lists and headers state of a server beyond PHP and extensions.

Databases, commands, functions, directories and settings, in files for programs:
``<database min-version="10.5">mysql</database>``, ``<PHP_SETTING name="max_input_vars" value="5000"/>``,
``{"settings": {"memory_limit": "128M"}, "commands": ["git"], "database": {"mariadb": "10.6"}}``
"""

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Final

from fundamentum.catalog.symbols import providers, span_in_php
from fundamentum.derive.beside import requirement_files
from fundamentum.derive.beside.package_headers import OF_MANIFEST, OF_XML, files_of_headers, is_required, lenient_xml
from fundamentum.derive.beside.settings_files import setting_wish
from fundamentum.derive.families import LIMITS
from fundamentum.derive.result import Entry, Place
from fundamentum.kinds.databases.way import PRODUCTS
from fundamentum.kinds.table_reader import COMMAND, PATH
from fundamentum.model.needs_value import Level
from fundamentum.model.versions import numbers
from fundamentum.untrusted.files import read_below

MAX_SIZE: Final = 1024 * 1024
MAX_DEPTH: Final = 5
MAX_STATED: Final = 200
"""Needs of one file: more are in no list of requirements."""
_RULES: Final[dict[Level, str]] = {"required": "the manifest requires it", "recommended": "the manifest suggests it"}
_SAME: Final = {"postgres": "postgresql", "pgsql": "postgresql", "sqlite3": "sqlite", "mysqli": "mysql"}
_DATABASES: Final = re.compile(
    r"(?:supported[-_ ]?)?(?:databases?|dbs?|dbms)(?:[-_ ]?(?:servers?|vendors?))?|vendor", re.I
)
_COMMANDS: Final = re.compile(r"(?:system[-_ ]?)?(?:commands?|binar(?:y|ies)|programs?|executables?)", re.I)
_DIRECTORIES: Final = re.compile(r"writ(?:e?able|es?)(?:[-_ ]?(?:to|paths?|dir(?:ector(?:y|ies)|s)?|folders?))?", re.I)
_FUNCTIONS: Final = re.compile(r"(?:php[-_ ]?)?functions?", re.I)
_SETTINGS: Final = re.compile(
    r"(?:php[-_ ]?)?(?:ini|settings?|directives?|limits?)(?:[-_ ]?(?:settings?|values?))?", re.I
)
_VERSION: Final = re.compile(r"(?:>=?|\^|~)?\s*(\d{1,2}(?:\.\d{1,3}){0,2})")
_LEAST: Final = ("min-version", "min_version", "version", "min", "minimum")
_OPEN: Final = re.compile(r"recommend|optional|suggest", re.I)


def stated_surroundings(root: Path, base: str) -> Iterator[Entry]:
    """One entry for each statement, in the order of the files; a file that cannot be used is remarked elsewhere."""
    for path, name in files_of_headers(root, base):
        listing = requirement_files.NAMES.fullmatch(name) is not None
        if not (listing or OF_XML.fullmatch(name) or OF_MANIFEST.fullmatch(name)):
            continue
        try:
            data = read_below(root, path, MAX_SIZE)
            read = _Reader(path, data)
            if name.lower().endswith(".xml"):
                read.document(lenient_xml(data), listing)
            else:
                table = requirement_files.table_in(data, path)
                read.table(table if listing else requirement_files.required_in(table), "required", 0)
        except (OSError, ValueError, RecursionError, SyntaxError):
            continue
        yield from read.entries


class _Reader:
    """The statements of one file."""

    def __init__(self, path: str, data: bytes) -> None:
        self.path, self.data = path, data
        self.entries: list[Entry] = []
        self.databases: dict[str, str] = {}

    def document(self, root: Any, listing: bool) -> None:
        """An XML document; of several sections for releases the last counts.

        ``listing``: it is a list of requirements; else what stands in elements for these counts.
        """
        tables = [element for element in root.iter() if isinstance(element.tag, str)]
        sections = [element for element in tables if element.tag.lower() == "php" and element.get("version")]
        section = sections[-1].getparent() if sections else root
        for element in section.iter() if section is not None else ():
            if not isinstance(element.tag, str) or not (listing or is_required(element)):
                continue
            tag, said = element.tag.lower(), (element.get("name") or element.text or "").strip()
            level = requirement_files.level_of(element)
            least = next((element.get(key) for key in _LEAST if element.get(key)), "")
            if _DATABASES.fullmatch(tag):
                self._database(said, least)
            elif _COMMANDS.fullmatch(tag):
                self._command(said, level)
            elif _SETTINGS.fullmatch(tag) and (element.get("value") or least):
                self._setting(said, element.get("value") or least, level)
            elif tag in LIMITS:
                self._setting(tag, element.get("value") or least or said, level)
            elif _FUNCTIONS.fullmatch(tag):
                self._function(said, level)
            elif _DIRECTORIES.fullmatch(tag):
                self._directory(said, level)
        self._close()

    def table(self, table: Any, level: Level, depth: int) -> None:
        """A table of JSON, INI or YAML, and those in it."""
        for key, value in table.items() if isinstance(table, dict) and depth < MAX_DEPTH else ():
            name = str(key)
            inside: Level = "recommended" if _OPEN.search(name) else level
            if _DATABASES.fullmatch(name) or _product(name):
                for product, version in _pairs(value if _DATABASES.fullmatch(name) else {name: value}):
                    self._database(product, version)
            elif _COMMANDS.fullmatch(name):
                for command, wanted in _pairs(value):
                    self._command(command, inside if wanted is not False else "recommended")
            elif _FUNCTIONS.fullmatch(name):
                for function, _ in _pairs(value):
                    self._function(function, inside)
            elif _DIRECTORIES.fullmatch(name):
                for directory, _ in _pairs(value):
                    self._directory(directory, inside)
            elif _SETTINGS.fullmatch(name):
                for setting, wanted in _pairs(value):
                    self._setting(setting, wanted, inside)
            elif name in LIMITS and isinstance(value, str | int):
                self._setting(name, value, inside)
            else:
                self.table(value, inside, depth + 1)
        if not depth:
            self._close()

    def _close(self) -> None:
        """An application works with one of the databases that it names."""
        if self.databases:
            names = tuple(product for product in PRODUCTS if product in self.databases)
            parts = [f"{name} >= {self.databases[name]}" if self.databases[name] else name for name in names]
            value = " | ".join(parts) if any(self.databases.values()) else ""
            self.entries.append(
                Entry("database", names, "recommended", value, "the manifest states it", (self._place(names[0]),))
            )

    def _database(self, name: str, version: object) -> None:
        if product := _product(name):
            known, least = self.databases.get(product, ""), _VERSION.match(str(version or ""))
            low = least[1] if least else ""
            self.databases[product] = max(known, low, key=numbers)

    def _command(self, name: str, level: Level) -> None:
        if COMMAND.fullmatch(name):
            self._add("command", name, level, "")

    def _function(self, name: str, level: Level) -> None:
        if providers("function", name.lower()) or span_in_php("function", name.lower()):
            self._add("function", name.lower(), level, "")

    def _directory(self, name: str, level: Level) -> None:
        inside = name.strip().removeprefix("./").rstrip("/")
        if PATH.fullmatch(inside) and {".", ".."}.isdisjoint(inside.split("/")) and not inside.startswith("/"):
            self._add("directory", inside, level, "writable")

    def _setting(self, name: str, wanted: object, level: Level) -> None:
        text = ("on" if wanted else "off") if isinstance(wanted, bool) else str(wanted)
        if wish := setting_wish(name, text.removeprefix(">=").strip(), 0):
            self._add("setting", name, level, wish.value)

    def _add(self, kind: Any, name: str, level: Level, value: str) -> None:
        if len(self.entries) < MAX_STATED:
            self.entries.append(Entry(kind, (name,), level, value, _RULES[level], (self._place(name),)))

    def _place(self, word: str) -> Place:
        at = max(self.data.find(word.encode("utf-8", "replace")), 0)
        return Place(self.path, self.data.count(b"\n", 0, at) + 1, word)


def _product(name: str) -> str:
    known = _SAME.get(name.lower().strip(), name.lower().strip())
    return known if known in PRODUCTS else ""


def _pairs(value: Any) -> Iterator[tuple[str, Any]]:
    """Names with what is said of each: of a table, of a list of names or of tables, or of a single name."""
    if isinstance(value, dict):
        yield from ((str(name), _plain(said)) for name, said in value.items())
    for entry in value if isinstance(value, list) else [value] if isinstance(value, str) else []:
        if isinstance(entry, dict):
            name = next((entry[key] for key in ("name", "type", "vendor", "id") if key in entry), "")
            said = next((entry[key] for key in ("value", *_LEAST) if key in entry), "")
            yield str(name), said
        elif isinstance(entry, str):
            name, _, said = entry.partition("=" if "=" in entry and ">" not in entry else " ")
            yield name.strip(), said.strip()


def _plain(said: Any) -> Any:
    """A version or a value, or that of a table which holds it."""
    if isinstance(said, dict):
        return next((said[key] for key in ("value", "recommended", *_LEAST) if key in said), "")
    return said
