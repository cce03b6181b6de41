"""What somebody may have meant who typed something that is not known: for error messages.

It is loaded only once there is an error to tell.
"""

import re
from collections.abc import Iterator, Mapping
from typing import Any, Final

import msgspec

from fundamentum.catalog import HARVESTED, catalogued, facts
from fundamentum.catalog.near import near
from fundamentum.catalog.words import said
from fundamentum.lazy_regex import lazy_regex
from fundamentum.needs.tables import known_keys, needs_file

_BARE: Final = lazy_regex(r"\s*(?P<key>[\w.\"-]+)\s*=\s*(?P<value>[^\"'\[{\s][^#]*?)\s*(?:#.*)?")


def key_meant(path: tuple[str, ...], key: str) -> str:
    """The known key at a place of a needs file that somebody may have meant; empty if there is none."""
    known = known_keys(path)
    other = said("keys").get(key.lower(), "")
    return other if other in known else near(key, known)


def of_key(path: tuple[str, ...], key: str) -> str:
    """What to write instead of a key that is not known at a place of a needs file; begins with ``; ``."""
    known = known_keys(path)
    if other := key_meant(path, key):
        return f"; did you mean '{other}'?"
    if path and (table := next(_tables_with(key), "")):
        return f"; it belongs to [{table}]"
    if any(key in facts(branch).directives for branch in HARVESTED):
        return f'; it is a directive of PHP: did you mean "{key}" in [settings.required]?'
    if any(key.lower() in catalogued(branch) for branch in HARVESTED):
        return f'; it is an extension: did you mean [extensions] required = ["{key.lower()}"]?'
    return f"; known: {', '.join(known)}" if known else ""


def of_syntax(line: str) -> str:
    """What may be wrong with a line that is no TOML; begins with ``; ``."""
    if match := _BARE.fullmatch(line):
        value = match["value"].replace('"', "").rstrip("'")
        switch = {"yes": "on", "no": "off", "on": "on", "off": "off", "True": "on", "False": "off"}.get(value, value)
        return f'; text stands in quotes: did you mean {match["key"]} = "{switch}"?'
    if re.fullmatch(r"\s*\[[^\]]*", line):
        return f"; did you mean {line.strip()}]?"
    if re.fullmatch(r"\s*[\w.-]+\s*:\s*.*", line):
        return f"; did you mean {line.strip().replace(':', ' =', 1)}?"
    if re.search(r"[\"']\s+[\"']", line):
        return "; a comma belongs between two entries"
    return ""


def _tables_with(key: str) -> Iterator[str]:
    """The tables in which a key can stand."""

    def below(table: Any, path: str) -> Iterator[str]:
        for field in msgspec.structs.fields(table):
            kind = field.type
            if path and field.encode_name == key:
                yield path
            if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
                yield from below(kind, f"{path}.{field.encode_name}" if path else field.encode_name)

    tables: Mapping[str, Any] = {field.name: field.type for field in msgspec.structs.fields(needs_file())}
    for name in tables:
        if name == key:
            yield key
            return
    yield from below(needs_file(), "")
