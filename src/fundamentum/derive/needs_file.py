"""A needs file from what was derived, and a second one over a file that a person has edited since.

A derived file carries a table ``[derived]``: what the derivation said of each need.  That tells later what a person
has changed: such a need stays as the person left it, everything else follows the new derivation.
"""

from collections.abc import Mapping
from typing import Final

import msgspec
import tomlkit

from fundamentum.derive.needs_document import BUILDS, put, table_of
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
from fundamentum.kinds.machine.need import HostNeed
from fundamentum.kinds.php.build import BuildNeed
from fundamentum.kinds.services import ServiceNeed
from fundamentum.kinds.settings.setting_verdict import SettingNeed
from fundamentum.kinds.tasks import TaskNeed
from fundamentum.kinds.unread import UnreadNeed
from fundamentum.kinds.web.need import WebNeed
from fundamentum.model.needs import Needs
from fundamentum.needs.file import FORMAT, parse

MARK: Final = "derived: "
"""How a note begins that a derivation wrote; one that a person wrote does not, and is left alone."""
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
    for entry in state.values():
        put(document, entry.key, entry)
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
                put(document, key, theirs.get(key))
        elif new != now:
            kept.append(f"{key}: {now or 'removed'}" + (f", though derived as {new}" if new else ", not derived"))
    return Rederived(_finished(document, theirs), tuple(changes), tuple(kept))


_SAID: Final = frozenset(
    "php build extension absent library feature loader setting uploads database service function command directory "
    "host task web_module unread".split()
)
"""The kinds of needs that a needs file holds."""


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
    words = {int(value): word for word, value in BUILDS.items()}
    levels |= {str(need.key): f"{need.level} {words[need.wanted]}" for need in needs.of(BuildNeed)}
    levels |= {"php:preferred": f"recommended {needs.preferred}"} if needs.preferred else {}
    levels |= {need.key: need.level for need in needs.of(LoaderNeed)}
    levels |= {str(need.key): need.level for need in needs.of(FeatureNeed)}
    settings = {str(need.key): f"{need.level} {need.condition.text}" for need in needs.of(SettingNeed)}
    levels |= {need.key: f"{need.level} {need.text}" for need in needs.of(LimitNeed) if need.key == "uploads:largest"}
    levels |= {need.key: f"{need.level} {need.access}" for need in needs.of(DirectoryNeed)}
    levels |= {str(need.key): f"{need.level} {need.text}" for need in needs.of(HostNeed)}
    levels |= {need.key: f"{need.level} {_versions(need)}".strip() for need in needs.of(DatabaseNeed)}
    levels |= {need.key: need.level for need in needs.of(CommandNeed)}
    levels |= {str(need.key): need.level for need in needs.of(ServiceNeed)}
    levels |= {str(need.key): f"{need.level} {need.text}" for need in needs.of(TaskNeed)}
    levels |= {str(need.key): need.level for need in needs.of(FunctionNeed)}
    levels |= {str(need.key): need.level for need in needs.of(WebNeed) if need.aspect == "module"}
    levels |= {str(need.key): f"{need.level} {need.text}" for need in needs.of(UnreadNeed)}
    php = {"php": str(needs.php)} if needs.php.alternatives else {}
    return {**php, **levels, **settings}


def _change(key: str, old: str | None, new: str | None) -> str:
    if old is None:
        return f"added {key}: {new}"
    return f"removed {key}: {old}" if new is None else f"changed {key}: {old} -> {new}"


def _finished(document: tomlkit.TOMLDocument, entries: Mapping[str, Entry]) -> str:
    """The text, with notes and the memory of what was derived."""
    needs = _said_by(parse(_without(document, "notes", "derived"), "needs file"))
    notes = table_of(document, "notes")
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
