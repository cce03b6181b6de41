"""A needs file from what was derived, and a second one over a file that a person has edited since.

A derived file carries a table ``[derived]``: what the derivation said of each need.  That tells later what a person
has changed: such a need stays as the person left it, everything else follows the new derivation.
"""

import re
from collections.abc import Iterable, Mapping
from typing import Final

import msgspec
import tomlkit
from tomlkit.items import Table

from fundamentum.derive.result import Derived, Entry
from fundamentum.errors import InputError
from fundamentum.kinds.commands import CommandNeed
from fundamentum.kinds.databases.way import DatabaseNeed
from fundamentum.kinds.directories.need import DirectoryNeed
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.kinds.extensions.absent import AbsentNeed
from fundamentum.kinds.features import FeatureNeed
from fundamentum.kinds.functions import FunctionNeed
from fundamentum.kinds.libraries import LibraryNeed
from fundamentum.kinds.limits.need import LimitNeed
from fundamentum.kinds.loaders import LoaderNeed
from fundamentum.kinds.php.build import BuildNeed
from fundamentum.kinds.services import ServiceNeed
from fundamentum.kinds.settings.setting_verdict import SettingNeed
from fundamentum.kinds.tasks import TaskNeed
from fundamentum.kinds.web.need import WebNeed
from fundamentum.model.needs import Needs
from fundamentum.needs.file import FORMAT, parse

MARK: Final = "derived: "
"""How a note begins that a derivation wrote; one that a person wrote does not, and is left alone."""
LEVEL_TABLES: Final = ("required", "recommended")
MAX_NOTE: Final = 400


class Rederived(msgspec.Struct, frozen=True):
    """The new text of a needs file, and what became of the old one."""

    text: str
    changes: tuple[str, ...]
    """What the new derivation added, changed, removed."""
    kept: tuple[str, ...]
    """Where the person's word stands against it."""


def as_needs(derived: Derived) -> Needs:
    """The needs as a check takes them."""
    return parse(written(derived), f"{derived.name} (derived)")


def written(derived: Derived) -> str:
    """A needs file."""
    document = tomlkit.document()
    document.add("format", tomlkit.item(FORMAT))
    application = tomlkit.table()
    application.add("name", derived.name)
    if derived.version:
        application.add("version", derived.version[:100])
    document.add("application", application)
    state = {entry.key: entry for entry in derived.entries if entry.kind in _SAID}
    _fill(document, state.values())
    return _finished(document, state)


def rederived(old_text: str, where: str, derived: Derived) -> Rederived:
    """A derivation over an existing file.  ``where`` names the file in errors."""
    before = parse(old_text, where)
    try:
        document = tomlkit.parse(old_text)
    except tomlkit.exceptions.TOMLKitError as error:
        raise InputError(where, f"not TOML: {error}") from error
    base = {str(key): str(value) for key, value in (document.get("derived") or {}).items()}
    mine = _said_by(before)
    theirs = {entry.key: entry for entry in derived.entries if entry.kind in _SAID}
    changes: list[str] = []
    kept: list[str] = []
    for key in dict.fromkeys((*base, *mine, *theirs)):
        new = _said(theirs[key]) if key in theirs else None
        old, now = base.get(key), mine.get(key)
        if now == old:  # as derived, or in neither
            if new != now:
                changes.append(_change(key, now, new))
                _set(document, key, theirs.get(key))
        elif new != now:
            kept.append(f"{key}: {now or 'removed'}" + (f", though derived as {new}" if new else ", not derived"))
    return Rederived(_finished(document, theirs), tuple(changes), tuple(kept))


_SAID: Final = frozenset(
    "php build extension absent library feature loader setting uploads database service function command directory "
    "task web_module".split()
)
"""The kinds of needs that a needs file holds."""


_TABLES: Final = {
    "extension": "extensions",
    "absent": "extensions",
    "library": "libraries",
    "feature": "features",
    "loader": "loaders",
    "setting": "settings",
    "uploads": "uploads",
    "database": "database",
    "service": "services",
    "function": "functions",
    "command": "commands",
    "directory": "directories",
    "task": "tasks",
    "web": "web",
}
"""Where in a needs file each kind stands."""


_BUILDS: Final[Mapping[str, int]] = {"64": 64, "32": 32, "true": True, "false": False}
"""How a build is to be, in the words of what is derived; what is none of these is a branch of PHP."""


def _plain(alternative: str) -> str:
    """One of several alternatives, without the versions that a person may have written behind it."""
    return re.split(r"[<>=!]", alternative)[0].strip().lower()


def _said(entry: Entry) -> str:
    """A need in one word: its level, or for a setting level and condition, for PHP the range."""
    if entry.kind == "php":
        return entry.value
    if entry.kind == "database":
        return f"{entry.level} {entry.value.replace('>= ', '>=')}".strip()  # as the need has it once it is read
    return f"{entry.level} {entry.value}".strip() + (f" ({entry.way})" if entry.way else "")


def _versions(need: DatabaseNeed) -> str:
    """The alternatives, if a version stands behind any."""
    return need.text if any(accepted.alternatives for _, accepted in need.alternatives) else ""


def _said_by(needs: Needs) -> dict[str, str]:
    levels: dict[str, str] = {
        str(need.key): f"{need.level} {need.versions[0] if len(need.versions) == 1 else ''}".removesuffix("any").strip()
        + (f" ({need.way})" if need.way == "command_line" else "")
        for need in needs.of(ExtensionNeed)
    }
    levels |= {str(need.key): need.level for need in needs.of(AbsentNeed)}
    levels |= {str(need.key): f"{need.level} {need.text.partition(' ')[2]}".strip() for need in needs.of(LibraryNeed)}
    words = {int(value): word for word, value in _BUILDS.items()}
    levels |= {str(need.key): f"{need.level} {words[need.wanted]}" for need in needs.of(BuildNeed)}
    levels |= {"php:preferred": f"recommended {needs.preferred}"} if needs.preferred else {}
    levels |= {need.key: need.level for need in needs.of(LoaderNeed)}
    levels |= {str(need.key): need.level for need in needs.of(FeatureNeed)}
    settings = {str(need.key): f"{need.level} {need.condition.text}" for need in needs.of(SettingNeed)}
    levels |= {need.key: f"{need.level} {need.text}" for need in needs.of(LimitNeed) if need.key == "uploads:largest"}
    levels |= {need.key: f"{need.level} {need.access}" for need in needs.of(DirectoryNeed)}
    levels |= {need.key: f"{need.level} {_versions(need)}".strip() for need in needs.of(DatabaseNeed)}
    levels |= {need.key: need.level for need in needs.of(CommandNeed)}
    levels |= {str(need.key): need.level for need in needs.of(ServiceNeed)}
    levels |= {str(need.key): f"{need.level} {need.text}" for need in needs.of(TaskNeed)}
    levels |= {str(need.key): need.level for need in needs.of(FunctionNeed)}
    levels |= {str(need.key): need.level for need in needs.of(WebNeed) if need.aspect == "module"}
    php = {"php": str(needs.php)} if needs.php.alternatives else {}
    return {**php, **levels, **settings}


def _change(key: str, old: str | None, new: str | None) -> str:
    if old is None:
        return f"added {key}: {new}"
    return f"removed {key}: {old}" if new is None else f"changed {key}: {old} -> {new}"


def _table(parent: tomlkit.TOMLDocument | Table, name: str) -> Table:
    if name not in parent:
        parent.add(name, tomlkit.table())
    table = parent[name]
    if not isinstance(table, Table):
        raise InputError("needs file", f"[{name}] must be a table")
    return table


def _fill(document: tomlkit.TOMLDocument, entries: Iterable[Entry]) -> None:
    for entry in entries:
        _set(document, entry.key, entry)


def _set(document: tomlkit.TOMLDocument, key: str, entry: Entry | None) -> None:
    """Put one need into the document in place of what is there under its key; None: take it out."""
    kind, _, names = key.partition(":")
    if kind == "php" and names:
        php = _table(document, "php")
        php.pop(names, None)
        if entry is not None:
            php[names] = tomlkit.item(_BUILDS.get(entry.value, entry.value))
        return
    if kind == "php":
        php = _table(document, "php")
        php.pop("version", None)
        if entry is not None:
            php["version"] = entry.value
        return
    table = _table(document, _TABLES[kind])
    if kind == "feature":
        extension, _, feature = names.partition(":")
        for level in LEVEL_TABLES:
            listed = table.get(level, {}).get(extension, ())
            if feature in listed:
                listed.remove(feature)
        if entry is not None:
            _table(table, entry.level).setdefault(extension, tomlkit.array()).append(feature)
        return
    if kind == "web":
        _set_module(table, names.partition(":")[2], entry)
        return
    if kind == "uploads":
        for name in ("largest", "level"):
            table.pop(name, None)
        if entry is not None:
            table["largest"] = entry.value
            table["level"] = entry.level
        return
    if kind in ("setting", "directory", "task"):
        for level in LEVEL_TABLES:
            if level in table:
                table[level].pop(names, None)
        if entry is not None:
            _table(table, entry.level)[names] = entry.value
        return
    levels = ("absent",) if kind == "absent" else LEVEL_TABLES
    tables = [table, *([table["command_line"]] if "command_line" in table else [])]
    for listed in (written[level] for written in tables for level in levels if level in written):
        for at in range(len(listed) - 1, -1, -1):
            if "|".join(_plain(part) for part in str(listed[at]).split("|")) == names.lower():
                del listed[at]
    if entry is not None:
        level = "absent" if kind == "absent" else entry.level
        table = _table(table, entry.way) if entry.way else table
        if level not in table:
            table.add(level, tomlkit.array())
        listed = table[level]
        alternatives = " | ".join(names.split("|"))
        listed.append(entry.value if kind == "database" and entry.value else f"{alternatives} {entry.value}".strip())
        listed.multiline(len(listed) > 5)


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


def _finished(document: tomlkit.TOMLDocument, entries: Mapping[str, Entry]) -> str:
    """The text, with notes and the memory of what was derived."""
    needs = _said_by(parse(_without(document, "notes", "derived"), "needs file"))
    notes = _table(document, "notes")
    for key in [str(key) for key in notes]:
        if str(notes[key]).startswith(MARK):
            notes.pop(key)
    for key, entry in entries.items():
        if key in needs and key not in notes:
            notes[key] = note_of(entry)
    for key in [str(key) for key in notes]:
        if key != "php" and not any(key == other or _covers(other, key) for other in needs):
            notes.pop(key)  # of a need that is gone
    document.pop("notes")
    document.pop("derived", None)
    if notes:
        document.add("notes", notes)
    memory = tomlkit.table()
    memory.comment("what the derivation said: it keeps your changes apart from its own the next time")
    for key, entry in entries.items():
        memory[key] = _said(entry)
    document.add("derived", memory)
    text = tomlkit.dumps(document)
    parse(text, "the derived needs file")  # it has to be one
    return text


def _without(document: tomlkit.TOMLDocument, *names: str) -> str:
    text = tomlkit.dumps(document)
    if document.keys().isdisjoint(names):
        return text
    copy = tomlkit.parse(text)
    for name in names:
        copy.pop(name, None)
    return tomlkit.dumps(copy)


def _covers(need: str, note: str) -> bool:
    kind, _, names = need.partition(":")
    return note in {f"{kind}:{name}" for name in names.split("|")}


def note_of(entry: Entry) -> str:
    """The rule and the most telling places, as a note."""
    places = "; ".join(f"{place} {place.what}" for place in entry.places[:3])
    return _printable(f"{MARK}{entry.rule}" + (f" ({places})" if places else ""))[:MAX_NOTE]


def _printable(text: str) -> str:
    return "".join(c if c.isprintable() else "?" for c in text)
